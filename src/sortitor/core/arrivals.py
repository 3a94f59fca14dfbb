"""What an arriving device states, and what of that is written down."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.gate import Decision
from sortitor.core.identifiers import check_one, explain, imei_of, serial_of
from sortitor.core.lifecycle import COUNTED
from sortitor.core.lots import maker_key
from sortitor.core.versions import components
from sortitor.core.vocabulary import (
    Basis,
    Claim,
    IdentifierKind,
    Outcome,
    Ownership,
    Platform,
    Stage,
)


@dataclass(frozen=True, slots=True)
class Knock:
    """What a device states when it arrives."""

    code: str
    platform: Platform
    os_version: str | None
    maker: str | None
    model: str | None
    serial: str | None
    imeis: tuple[str, ...]
    person: str | None
    #: The hash of the credential that it showed: it is the device that has it.
    credential: bytes | None = None
    passcode: str | None = None
    #: The version of the device protocol that it speaks.
    protocol: int = 1

    def as_kept(self) -> dict[str, Any]:
        """What is kept of it: all but the pass's code and passcode, and the credential."""
        secret = ("credential", "passcode")
        kept = {one.name: getattr(self, one.name) for one in fields(self) if one.name not in secret}
        return {**kept, "code": None, "imeis": list(self.imeis)}


@dataclass(frozen=True, slots=True)
class Key:
    """One identifier that a device stated: kind, normal form, maker, and as it was given."""

    kind: str
    value: str
    maker: str
    given: str


def check_version(knock: Knock) -> None:
    """Raise BadInput for a version that is none."""
    if knock.os_version is None:
        return
    try:
        components(knock.os_version)
    except ValueError as error:
        problem = FieldProblem("/os_version", "bad_version", str(error))
        remedy = "State the version as numbers joined by dots."
        raise BadInput("bad_version", f"{error}.", remedy, (problem,)) from error


#: What a device states is sound as a rule: only of what is not, the check of a column tells why.
_QUICKLY = {IdentifierKind.SERIAL: serial_of, IdentifierKind.IMEI: imei_of}


def keys_of(knock: Knock) -> list[Key]:
    """The identifiers that a device stated. Raises BadInput for a bad one, or for none."""
    given = [(IdentifierKind.SERIAL, knock.serial, "/serial")] if knock.serial else []
    for place, imei in enumerate(knock.imeis):
        given.append((IdentifierKind.IMEI, imei, f"/imeis/{place}"))
    keys, problems = [], []
    for kind, text, pointer in given:
        value, note = _QUICKLY[kind](text), None
        if value is None:
            value, note = check_one(kind, text)
        if value is None:
            words = f"{text!r}: {explain(note or 'nothing_valid')}"
            problems.append(FieldProblem(pointer, note or "missing", words))
            continue
        maker = maker_key(knock.maker or "") if kind is IdentifierKind.SERIAL else ""
        keys.append(Key(kind.value, value, maker, str(text)))
    if problems or not keys:
        detail = "A device states at least its serial number or an IMEI."
        if problems:
            detail = problems[0].detail
        remedy = "Read the identifier from the hardware."
        raise BadInput("bad_identifiers", detail, remedy, tuple(problems))
    return keys


def was_declared(lot_id: int | None, basis: Basis) -> bool:
    """Whether somebody told of a device before it arrived: a lot, a list, or a person by hand."""
    return lot_id is not None or basis in (Basis.DECLARED, Basis.MANUAL)


def counts_already(stage: Stage, person_id: int | None, arriving_for: int | None) -> bool:
    """Whether a device counts to its person's quota before it arrives for the same person."""
    return person_id is not None and person_id == arriving_for and stage in COUNTED


def claim_of(decision: Decision) -> Claim | None:
    """What a coordinator has to decide of an arrival that was parked: whether the device in use
    and the one that arrived are the same.
    """
    claims = decision.outcome is Outcome.PARKED and any(
        reason.code == "in_use" for reason in decision.reasons
    )
    return Claim.OPEN if claims else None


def stage_after(decision: Decision) -> Stage:
    """Where a device stands that was let in."""
    return Stage.ACTIVE if decision.outcome is Outcome.ADMITTED else Stage.PARKED


@dataclass(frozen=True, slots=True)
class Told:
    """What is known of a device's make, whatever it says itself: its maker, and its model where
    that was declared.
    """

    maker: str | None = None
    model: str | None = None


def facts_to_set(
    knock: Knock,
    decision: Decision,
    ownership: tuple[Ownership, Basis],
    at: datetime,
    by_hand: Collection[str],
    known: Told,
) -> dict[str, Any]:
    """The fields that a knock may set, of a device that is let in.

    What somebody set by hand stays (`by_hand`), and so does a maker that is known: the serial
    number is unique within it. The model of a device that was declared stays as it was declared.
    """
    moment = at.isoformat()
    fields: dict[str, Any] = {
        "stage": stage_after(decision),
        "stage_at": moment,
        "enrolled_at": moment,
        "last_seen_at": moment,
        "platform": knock.platform,
        "ownership": ownership[0],
        "ownership_basis": ownership[1],
    }
    if knock.os_version:
        fields["os_version"] = knock.os_version
    if knock.model and "model" not in by_hand and not known.model:
        fields["model"] = knock.model
    if knock.maker and "maker" not in by_hand and not known.maker:
        fields["maker"] = knock.maker
    return fields


#: Columns that a knock may set → the attributes that filters know them by.
_ATTRIBUTES = {
    "stage": "stage",
    "platform": "platform",
    "ownership": "ownership",
    "ownership_basis": "ownershipBasis",
    "os_version": "osVersion",
    "model": "model",
    "maker": "maker",
}


def facts_after(
    before: Mapping[str, Any],
    patch: Mapping[str, Any],
    keys: Iterable[Key],
    person: Mapping[str, Any],
) -> dict[str, Any]:
    """What is known of a device once its knock is written (attribute → value), from what was known
    before; a given person takes the place of the former one. Its cohorts are those of before.
    """
    after = {"held": False, **before}
    for key in keys:
        after[key.kind] = sorted({*after.get(key.kind, ()), key.value})
    after |= {name: patch[column] for column, name in _ATTRIBUTES.items() if column in patch}
    after |= {"idleDays": 0, **person}
    return after
