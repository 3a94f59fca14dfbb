"""What a machine knows of its own hardware, as a line of a manifest."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import re
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sortitor.core import placeholders

_SERIAL = re.compile(r"[A-Za-z0-9\-./_+]{3,64}")
_MAC = re.compile(r"([0-9a-f]{2}:){5}[0-9a-f]{2}")
#: UUIDs that boards come with by the thousand.
_COMMON_UUIDS = frozenset({"03000200-0400-0500-0006-000700080009"})


@dataclass(frozen=True, slots=True)
class Card:
    """A network card: its name, its permanent address, and whether it is a real one."""

    name: str
    address: str
    physical: bool


@dataclass(frozen=True, slots=True)
class Machine:
    """What was read, as it stands: text of each fact, or why it could not be read."""

    serial: str
    uuid: str
    maker: str
    model: str
    cards: Sequence[Card]
    #: Fact → why it could not be read.
    unread: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Found:
    """The machine's identifiers, and a sentence for everything that is missing."""

    serial: str | None
    uuid: str | None
    macs: tuple[str, ...]
    maker: str | None
    model: str | None
    fingerprint: str | None
    missing: tuple[str, ...]

    def as_manifest(self) -> str:
        """A header and one line of CSV (RFC 4180) that a lot takes."""
        values = {
            "serial": self.serial,
            "maker": self.maker,
            "model": self.model,
            "platform": "linux",
            "uuid": self.uuid,
            "mac": ";".join(self.macs) or None,
            "fingerprint": self.fingerprint,
        }
        there = {name: value for name, value in values.items() if value}
        text = io.StringIO()
        writer = csv.writer(text, lineterminator="\n")
        writer.writerow(there)
        writer.writerow(there.values())
        return text.getvalue()


def found_in(machine: Machine) -> Found:
    """The identifiers of a machine: what is no identifier is left out, and said."""
    missing = [f"{fact}: {why}" for fact, why in machine.unread.items()]
    serial = machine.serial.strip()
    if serial and (_is_filler(serial) or not _SERIAL.fullmatch(serial)):
        missing.append(f"serial number: {serial!r} stands there, which is none")
        serial = ""
    known = _uuid_of(machine.uuid)
    if machine.uuid.strip() and known is None:
        missing.append(f"UUID: {machine.uuid.strip()!r} stands there, which is none of its own")
    macs = []
    for card in machine.cards:
        why = _unusable(card)
        if why:
            missing.append(f"network card {card.name}: {why}")
        else:
            macs.append(card.address.lower())
    macs = sorted(set(macs))
    return Found(
        serial=serial or None,
        uuid=known,
        macs=tuple(macs),
        maker=_named(machine.maker),
        model=_named(machine.model),
        fingerprint=_fingerprint(serial, known, macs),
        missing=tuple(missing),
    )


def _is_filler(text: str) -> bool:
    return placeholders.key(text) in placeholders.KEYS


def _named(text: str) -> str | None:
    name = " ".join(text.split())
    return None if not name or _is_filler(name) else name


def _uuid_of(text: str) -> str | None:
    try:
        found = uuid.UUID(text.strip())
    except ValueError:
        return None
    same = len(set(found.hex)) == 1
    return None if same or str(found) in _COMMON_UUIDS else str(found)


def _unusable(card: Card) -> str | None:
    address = card.address.lower()
    if not card.physical:
        return "it is no real card"
    if not _MAC.fullmatch(address) or address == "00:00:00:00:00:00":
        return "it tells no permanent address"
    if int(address[:2], 16) & 0b10:
        return f"{address} is made up locally (randomised), so it identifies nothing"
    return None


def _fingerprint(serial: str, known: str | None, macs: Sequence[str]) -> str | None:
    """SHA-256 over the identifiers, so that a part that is replaced makes another one."""
    parts = [part for part in (serial.upper(), known, *macs) if part]
    if not parts:
        return None
    return base64.b64encode(hashlib.sha256("\n".join(parts).encode()).digest()).decode()
