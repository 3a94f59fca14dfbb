"""People and groups: importing and reading them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from sortitor.core.errors import BadInput, Stale
from sortitor.core.filters import Filter
from sortitor.core.people import read_people
from sortitor.core.previews import Count, Example, Preview, sealed
from sortitor.core.selection import Selection
from sortitor.operations import gate, kept_numbers, quotas
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import is_number
from sortitor.operations.files import read_list
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.quotas import Standing
from sortitor.operations.selections import resolve_selection
from sortitor.store import devices as store_devices
from sortitor.store import groups as store_groups
from sortitor.store import people as store
from sortitor.store.devices import LineRow
from sortitor.store.engine import Connection
from sortitor.store.groups import GroupRow
from sortitor.store.people import ListedRow, PersonRow

_EXAMPLES = 50
#: So many people over their quota are called by name.
NAMED = 3
_LEAVERS_SHOWN = 25
_DEVICES_SHOWN = 200


def preview_import(ctx: Context, content: bytes, complete: bool = False) -> Preview:
    """What a people file would change. `complete`: it names everybody, so whom it does not name has
    left.
    """
    people = _read(ctx, content)
    with ctx.working_out() as connection:
        return _plan(connection, people, complete)[0]


def _read(ctx: Context, content: bytes) -> pl.DataFrame:
    """The people of a file, read outside any transaction."""
    manifest = read_list(content, ctx.limits.files, ctx.check_time)
    return read_people(manifest)


def _plan(
    connection: Connection, people: pl.DataFrame, complete: bool
) -> tuple[Preview, list[int]]:
    counts = store.stage_import(connection, people)
    lines = store.staged_examples(connection)
    gone = store.absent(connection) if complete else []
    touched = counts["new"] + counts["changed"] + len(gone)
    examples = [
        *(Example(name, "person", "here", "left") for _, name in gone[:_LEAVERS_SHOWN]),
        *(Example(name, field, before, after) for name, field, before, after in lines),
    ]
    shown = Preview(
        title="Import people",
        apply_label=f"Import {touched:,} {'person' if touched == 1 else 'people'}",
        counts=_counts(counts, len(gone) if complete else None),
        examples=tuple(examples[:_EXAMPLES]),
        examples_total=touched,
    )
    return sealed(shown, [counts, lines, gone]), [person_id for person_id, _ in gone]


def _counts(counts: Mapping[str, int], gone: int | None) -> tuple[Count, ...]:
    """What a file changes; `gone` is None where it does not say who left."""
    left_groups = counts["leaves"]
    found = [
        Count("new", "new people", counts["new"], "good"),
        Count("changed", "changed", counts["changed"]),
        Count("unchanged", "unchanged", counts["unchanged"]),
        Count("joins", "group memberships added", counts["joins"]),
        Count("leaves", "group memberships ended", left_groups, "warn" if left_groups else "plain"),
    ]
    if gone is not None:
        label = "have left: the file does not name them"
        found.append(Count("left", label, gone, "warn" if gone else "plain"))
    return tuple(found)


def apply_import(
    ctx: Context, content: bytes, digest: str, reason: str | None, complete: bool = False
) -> Preview:
    """Import the people of a file as previewed."""
    people = _read(ctx, content)
    with ctx.changing() as connection:
        preview, gone = _plan(connection, people, complete)
        require_digest(preview, digest)
        store.apply_import(connection)
        if gone:
            store.leave(connection, gone, ctx.now)
        counts = {count.key: count.count for count in preview.counts}
        ctx.record(
            connection,
            "people.import",
            "people",
            f"People imported: {counts['new']} new, {counts['changed']} changed"
            + (f", {len(gone)} left" if gone else ""),
            reason=reason,
            before={line.subject: {line.field: line.before} for line in preview.examples},
            after=counts,
        )
        return preview


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which people are asked for: by a name, of a group, who have such a device, who have more
    devices than they may; in which order.
    """

    query: str | None = None
    group: str | None = None
    having: Filter | None = None
    over_quota: bool = False
    sort: str = "id"
    descending: bool = False


def counting_over(ctx: Context, gate_revision: int) -> Counting:
    """Who is over a quota of the gate, as it is kept of a large fleet: `people` by number, and the
    `first` of them by user name.
    """
    return Counting("quota", _count_over, f"{ctx.today} {gate_revision}")


def _count_over(ctx: Context) -> dict[str, Any]:
    with ctx.reading() as connection:
        found = quotas.over(connection, gate.in_force(connection, ctx.today))
    return {"people": [one.id for one in found.values()], "first": list(found)[:NAMED]}


def page(ctx: Context, wanted: Wanted, after: Sequence[Any] | None, limit: int) -> list[ListedRow]:
    """People after the key `(sort value, id)`."""
    only = None
    if wanted.over_quota:
        counting = counting_over(ctx, gate.read(ctx).revision)
        only = kept_numbers.known(ctx, [counting])["quota"]["people"]
    with ctx.reading() as connection:
        condition = None
        if wanted.having is not None:
            chosen = resolve_selection(connection, Selection(filter=wanted.having))
            condition = store_devices.matching(chosen, ctx.now)
        return store.page(
            connection,
            wanted.query,
            wanted.group,
            after,
            limit,
            having=condition,
            only=only,
            sort=wanted.sort,
            descending=wanted.descending,
        )


def find(connection: Connection, key: int | str) -> PersonRow:
    """One person by number, user name or mail; a number goes before a name of digits."""
    found = None
    if is_number(key):
        found = store.one(connection, int(key))
    if found is None and isinstance(key, str):
        found = store.by_any_name(connection, key)
    return or_not_found(found, "person", key)


def set_left(ctx: Context, key: int | str, left: bool, reason: str | None) -> None:
    """Note that somebody has left, or is back."""
    with ctx.changing() as connection:
        person = find(connection, key)
        store.leave(connection, [person.id], ctx.now if left else None, by_hand=True)
        what = "has left" if left else "is back"
        ctx.record(
            connection,
            "person.left" if left else "person.back",
            "person",
            f"{person.name} {what}",
            subject_id=person.id,
            reason=reason,
        )


def find_group(connection: Connection, key: int | str, lock: bool = False) -> GroupRow:
    """One group by number or name; a number goes before a name of digits."""
    found = None
    if is_number(key):
        found = store_groups.one(connection, int(key), lock)
    if found is None and isinstance(key, str):
        found = store_groups.by_name(connection, key, lock)
    return or_not_found(found, "group", key)


def set_inner(
    ctx: Context, key: int | str, inner: Sequence[int | str], revision: int | None
) -> GroupRow:
    """Put exactly these groups into a group. Raises Stale for another `revision` than it has."""
    with ctx.changing() as connection:
        store_groups.hold_still(connection)
        group = find_group(connection, key, lock=True)
        if revision not in (None, group.revision):
            raise Stale(f"group “{group.name}”")
        found = [find_group(connection, one) for one in inner]
        if group.id in [one.id for one in found]:
            detail = f"Group “{group.name}” cannot be in itself."
            raise BadInput("group_in_itself", detail, "Leave it out.")
        store_groups.set_groups(connection, group.id, [one.id for one in found])
        store_groups.resolve(connection, [group.id])
        store_groups.change(connection, group.id, {"changed_at": ctx.now})
        names = [one.name for one in found]
        ctx.record(
            connection,
            "group.groups",
            "group",
            f"Group “{group.name}” holds {', '.join(names) or 'no groups'}",
            subject_id=group.id,
            before={"groups": group.groups},
            after={"groups": names},
        )
        return find_group(connection, group.id)


def group(ctx: Context, key: int | str) -> GroupRow:
    """One group by number or name."""
    with ctx.reading() as connection:
        return find_group(connection, key)


def groups(ctx: Context) -> list[GroupRow]:
    """All groups with the number of their people."""
    with ctx.reading() as connection:
        return store_groups.every(connection)


@dataclass(frozen=True, slots=True)
class PersonDetail:
    """A person with their devices and quota."""

    person: PersonRow
    devices: list[LineRow]
    quotas: list[Standing]


def one(ctx: Context, key: int | str) -> PersonDetail:
    """One person with all that belongs to them."""
    with ctx.reading() as connection:
        person = find(connection, key)
        devices = store_devices.page(
            connection,
            selection=Selection(person_id=person.id),
            now=ctx.now,
            sort="id",
            descending=False,
            after=None,
            limit=_DEVICES_SHOWN,
        )
        holding = store.holding(connection, person.id)
        standings = quotas.standings(gate.in_force(connection, ctx.today), person, holding)
        return PersonDetail(person, devices, standings)


def name_people(connection: Connection, sides: Sequence[dict[str, Any] | None]) -> None:
    """Put people's names in the place of their numbers."""
    naming = [side for side in sides if side and "person_id" in side]
    numbers = {side["person_id"] for side in naming if side["person_id"]}
    names = store.names(connection, numbers)
    for side in naming:
        side["person"] = names.get(side.pop("person_id"))
