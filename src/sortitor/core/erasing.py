"""Erasing retired devices: what it leaves, and what proves it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.previews import plural

#: So many devices are erased in one go: every text that is kept is searched for each of them.
MOST_AT_ONCE = 1_000


def check_confirmation(confirmed: int, devices: int) -> None:
    """Raise BadInput unless the number that was typed is that of the devices that would go."""
    if confirmed == devices:
        return
    gone = plural(devices, "device")
    detail = f"Erasing cannot be taken back. It would erase {gone}, not {confirmed:,}."
    remedy = f"Confirm it with the number of devices: {devices}."
    raise BadInput(
        "confirm_erasure",
        detail,
        remedy,
        (FieldProblem("/confirm", "confirm_erasure", detail),),
    )


def fingerprint(salt: str, value: str) -> str:
    """What a certificate says of an identifier: whoever knows it can find it again, nobody can
    read it. SHA-256 over salt, a colon and the identifier, in hex.
    """
    return hashlib.sha256(f"{salt}:{value}".encode()).hexdigest()


#: In which order a certificate is read.
ORDER = (
    "certificate",
    "says",
    "at",
    "by",
    "reason",
    "journal_entry",
    "erased",
    "devices",
    "not_reached",
    "identifier_digest",
    "salt",
)


def certificate(
    number: int,
    at: datetime,
    by: str,
    reason: str | None,
    salt: str,
    devices: Sequence[tuple[int, str | None, str]],
    identifiers: Sequence[tuple[int, str, str]],
    gone: dict[str, int],
    entry_id: int,
) -> dict[str, Any]:
    """The certificate of an erasure. devices: `(number, platform, ownership)`; identifiers:
    `(device, kind, value)`; gone: what went beside them.
    """
    found: dict[int, list[dict[str, str]]] = {}
    for device_id, kind, value in identifiers:
        line = {"kind": kind, "sha256": fingerprint(salt, value)}
        found.setdefault(device_id, []).append(line)
    return {
        "certificate": number,
        "says": "These devices were erased, and what was kept of them but for what is said below.",
        "at": at.isoformat(),
        "by": by,
        "reason": reason,
        "journal_entry": entry_id,
        "salt": salt,
        "identifier_digest": "SHA-256 over salt, a colon and the identifier in capitals",
        "erased": gone,
        "not_reached": [
            "backups made before, until they are replaced",
            "mails that have left",
            "what sources say of them, in their systems and as it was last read from them",
        ],
        "devices": [
            {
                "number": device_id,
                "platform": platform,
                "ownership": ownership,
                "identifiers": found.get(device_id, []),
            }
            for device_id, platform, ownership in devices
        ],
    }
