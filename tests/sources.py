"""Sources to test with: registries in threads, directories in processes of their own."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import httpx
from tests.identifiers import imei

from sortitor.client import Sortitor
from sortitor.core.sources import Source
from sortitor.core.vocabulary import SourceKind
from sortitor.schemas.sources import SourceRun

SERVER = "Wrenmoor fleet"


def bought(count: int, start: int = 1) -> list[dict[str, Any]]:
    """Devices as a reseller delivers them."""
    return [
        {
            "serial": f"HS2{number:07d}",
            "imei": imei(number),
            "maker": "Ondry",
            "model": "Halyard S2",
            "platform": "android",
        }
        for number in range(start, start + count)
    ]


def deliver(
    registry: str, order: str, devices: Iterable[dict[str, Any]], reseller: str = "Harbour Tools"
) -> None:
    """Let a reseller deliver an order."""
    given = {"reseller": reseller, "order": order, "devices": list(devices)}
    httpx.post(f"{registry}/office/orders", json=given).raise_for_status()


def token_of(registry: str, certificate: str, days: float = 365) -> str:
    """The registry's token for a certificate."""
    httpx.post(f"{registry}/office/servers", json={"name": SERVER}).raise_for_status()
    url = f"{registry}/office/servers/{SERVER}/token"
    made = httpx.post(url, content=certificate.encode(), params={"days": days})
    return made.raise_for_status().text


def faults(registry: str, **wanted: float) -> None:
    """Let the registry do something wrong."""
    httpx.put(f"{registry}/office/faults", json=wanted).raise_for_status()


def add_registry(s: Sortitor, registry: str, **more: Any) -> str:
    """A registry as a source that trusts and is trusted; gives its name."""
    source = Source(name="Harbour registry", kind=SourceKind.REGISTRY, address=registry, **more)
    made = s.sources.add(source)
    s.sources.give(made.id, token_of(registry, s.sources.make_key(made.id)))
    return made.name


def run(s: Sortitor, source: str, **asked: Any) -> SourceRun:
    """Read a source to its end."""
    job = s.jobs.follow(s.sources.run(source, **asked), lambda job: None)
    return s.sources.show_run(job.subject_id)
