"""A made-up fleet that speaks the agent protocol: it knocks and checks in over HTTP, as real
devices would.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Platform
from sortitor.schemas.arrivals import Knock, KnockAnswer, RelayedCheckIn

_RELAY = 1_000


@dataclass(frozen=True, slots=True)
class Hardware:
    """What a device knows of itself, and who holds it."""

    platform: Platform
    os_version: str
    maker: str
    model: str
    serial: str
    imei: str | None = None
    person: str | None = None


def knock_all(
    s: Sortitor,
    code: str,
    fleet: Sequence[Hardware],
    at_once: int = 8,
    codes: Mapping[str, str] | None = None,
) -> Iterator[tuple[Hardware, KnockAnswer]]:
    """Let every device knock with a pass, a few at once, in order; `codes` are those of people who
    have a pass of their own, by user name.
    """

    def knock(device: Hardware) -> KnockAnswer:
        return s.agent.knock(
            Knock(
                code=(codes or {}).get(device.person or "", code),
                protocol=2,
                platform=device.platform,
                os_version=device.os_version,
                maker=device.maker,
                model=device.model,
                serial=device.serial,
                imeis=[device.imei] if device.imei else [],
                person=device.person,
            )
        )

    with ThreadPoolExecutor(at_once) as pool:
        # A few at a time: a queue of thousands would have to be emptied before a stopped process
        # can end.
        for start in range(0, len(fleet), at_once):
            part = fleet[start : start + at_once]
            yield from zip(part, pool.map(knock, part), strict=True)


def relay_all(s: Sortitor, sightings: Iterable[tuple[str, datetime, str | None]]) -> int:
    """Hand in sightings `(credential, seen at, OS version)` as a relay does, a thousand at a time;
    gives how many were taken.
    """
    batch = [
        RelayedCheckIn(credential=credential, seen_at=seen_at, os_version=version)
        for credential, seen_at, version in sightings
    ]
    return sum(
        s.agent.relay(batch[start : start + _RELAY]).received
        for start in range(0, len(batch), _RELAY)
    )
