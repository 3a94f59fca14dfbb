"""What each role may do and see, and the veil over the identifiers of personal devices.

A route names a permission; the console and the terminal learn from `/session` which of them the
caller has. What a device is known by reaches a person only through the `Veil`, and so does what a
person asks by: no filter, search or list finds an identifier out that its reader may not see.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from sortitor.core.filters import Filter, parse, veiled
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import IdentifierKind, Ownership, Role


class Permission(StrEnum):
    """What may be done or seen."""

    #: Read devices, lots, people, policies, the journal.
    LOOK = "look"
    #: See the identifiers of personal devices whole.
    SEE_PERSONAL = "see-personal"
    #: Check, mend, apply and revert lots; write orders.
    IMPORT = "import"
    #: Declare, assign, name, report and hold devices.
    MANAGE_DEVICES = "manage-devices"
    #: Add and change cohorts and lists.
    SORT = "sort"
    #: Change the gate and the naming; make passes.
    PREPARE = "prepare"
    #: Import people, note who left, put groups together.
    MANAGE_PEOPLE = "manage-people"
    #: Change licence pools.
    LICENSE = "license"
    #: Add and change sources, give what opens them, run them, tell registries what to do.
    CONNECT = "connect"
    #: Decide about discrepancies and mend them.
    LEVEL = "level"
    #: Change sweep rules and retire by them.
    SWEEP = "sweep"
    #: Take back any change of the journal.
    REVERT = "revert"
    #: Accounts and their roles.
    ADMINISTER = "administer"


_VIEWER = frozenset({Permission.LOOK})
#: Has devices in hand: gives, names, parks and reports them, and changes no rule.
_TECHNICIAN = _VIEWER | {Permission.SEE_PERSONAL, Permission.MANAGE_DEVICES}
_COORDINATOR = frozenset(Permission) - {Permission.ADMINISTER}

GRANTS: dict[Role, frozenset[Permission]] = {
    Role.VIEWER: _VIEWER,
    Role.TECHNICIAN: _TECHNICIAN,
    Role.COORDINATOR: _COORDINATOR,
    Role.ADMINISTRATOR: frozenset(Permission),
}

#: What each permission allows, after "You may not …".
WORDS: dict[Permission, str] = {
    Permission.LOOK: "look at the fleet",
    Permission.SEE_PERSONAL: "see the identifiers of personal devices",
    Permission.IMPORT: "import lots and write orders",
    Permission.MANAGE_DEVICES: "change devices",
    Permission.SORT: "change cohorts",
    Permission.PREPARE: "change the gate, names or passes",
    Permission.MANAGE_PEOPLE: "change people and groups",
    Permission.LICENSE: "change licence pools",
    Permission.CONNECT: "change or run sources",
    Permission.LEVEL: "decide about discrepancies",
    Permission.SWEEP: "change sweep rules or retire devices",
    Permission.REVERT: "take changes back",
    Permission.ADMINISTER: "manage accounts",
}


def may(role: Role, permission: Permission) -> bool:
    """Whether a role has a permission."""
    return permission in GRANTS[role]


def covers(role: Role, other: Role) -> bool:
    """Whether a role may do all that another may."""
    return GRANTS[role] >= GRANTS[other]


def lesser(role: Role, other: Role) -> Role:
    """The role of a token: never more than its account's."""
    return other if covers(role, other) else role


def roles_with(permission: Permission) -> list[Role]:
    """The roles that have a permission, least first."""
    return [role for role in Role if may(role, permission)]


# ---- the veil

#: The keys under which identifiers stand in what devices state and journal entries keep.
_STATED = ("serial", "imeis", "imei", *(kind.value for kind in IdentifierKind))
_KEPT = ("identifiers", "given_away")
#: How a hidden identifier begins, and how many characters are shown of a long one.
VEIL_MARK = "•••"
SHOWN_CHARACTERS = 4


@dataclass(frozen=True, slots=True)
class Veil:
    """What somebody may see of the identifiers of personal devices: all (`lifted`), or the last
    four characters.
    """

    lifted: bool

    def hides(self, ownership: str | None) -> bool:
        """Whether the identifiers of a device of this ownership are hidden."""
        return not self.lifted and ownership == Ownership.PERSONAL

    def identifier(self, value: str | None, ownership: str | None) -> str | None:
        """One identifier as it may be seen."""
        return _masked(value) if value and self.hides(ownership) else value

    def label(
        self, device_id: int, name: str | None, serial: str | None, ownership: str | None
    ) -> str:
        """What a device is called where a line has room for one word: its name, else its serial
        number, else its number.
        """
        return name or self.identifier(serial, ownership) or f"device no. {device_id}"

    def stated(self, stated: Mapping[str, Any], ownership: str | None) -> dict[str, Any]:
        """What a device said of itself when it knocked. `ownership` is None for a device that
        nobody knows: it may be anybody's own.
        """
        if self.lifted or ownership not in (None, Ownership.PERSONAL):
            return dict(stated)
        return {
            key: _masked_all(value) if key in _STATED else value for key, value in stated.items()
        }

    def effect(
        self, values: Mapping[str, Any] | None, ownership: str | None
    ) -> dict[str, Any] | None:
        """One side of a journal entry's effect on a device: `values` by field.

        A device that is, was or became personal is treated as personal.
        """
        if values is None or not (self.hides(ownership) or self.hides(values.get("ownership"))):
            return None if values is None else dict(values)
        return {
            key: _masked_entries(value) if key in _KEPT else _masked_details(key, value)
            for key, value in values.items()
        }

    def details(self, details: Mapping[str, Any], ownership: str | None) -> dict[str, Any]:
        """Columns of a supplier's file that Sortitor does not know: they may hold anything."""
        return _masked_all(dict(details)) if self.hides(ownership) else dict(details)

    def cells(
        self, cells: Mapping[str, str | None], plain: Collection[str], personal: bool
    ) -> dict[str, str | None]:
        """A row of a supplier's file. plain: headers of columns that hold no identifier."""
        if self.lifted or not personal:
            return dict(cells)
        return {
            header: value if header in plain else _masked(value) for header, value in cells.items()
        }

    # ---- what somebody asks by

    def parse(self, filter_text: str) -> Filter:
        """The filter that somebody asks by. Raises BadInput with column, caret and nearest name."""
        found = parse(filter_text)
        return found if self.lifted else veiled(found)

    def selection(
        self,
        *,
        filter_text: str | None = None,
        query: str | None = None,
        ids: Sequence[int] = (),
        identifiers: Sequence[str] = (),
        person_id: int | None = None,
        cohort_id: int | None = None,
        lot_id: int | None = None,
    ) -> Selection:
        """The devices that somebody asks for: the only way from a request to a selection."""
        return Selection(
            ids=tuple(ids),
            identifiers=tuple(identifiers),
            query=query,
            person_id=person_id,
            cohort_id=cohort_id,
            lot_id=lot_id,
            filter=self.parse(filter_text) if filter_text else None,
            masked=not self.lifted,
        )


def veil_of(role: Role) -> Veil:
    """The veil before a role."""
    return Veil(may(role, Permission.SEE_PERSONAL))


def _masked(value: str | None) -> str | None:
    """The last four characters; of a short value none, so that it is not told whole."""
    if not value:
        return value
    if len(value) > 2 * SHOWN_CHARACTERS:
        return VEIL_MARK + value[-SHOWN_CHARACTERS:]
    return VEIL_MARK + value[-2:] if len(value) > SHOWN_CHARACTERS else VEIL_MARK


def _masked_all(value: Any) -> Any:
    """Every text in a value masked."""
    if isinstance(value, str):
        return _masked(value)
    if isinstance(value, Mapping):
        return {key: _masked_all(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_masked_all(one) for one in value]
    return value


def _masked_entries(value: Any) -> Any:
    """Identifiers as a journal entry keeps them: their kinds are told, their values are not."""
    if isinstance(value, Mapping):
        return {
            key: _masked_all(one) if key in ("value", "given") else _masked_entries(one)
            for key, one in value.items()
        }
    return [_masked_entries(one) for one in value] if isinstance(value, list) else value


def _masked_details(key: str, value: Any) -> Any:
    return _masked_all(value) if key == "details" else value
