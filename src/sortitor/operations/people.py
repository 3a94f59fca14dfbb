"""People and groups: importing and reading them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import Connection

from sortitor.core.errors import BadInput
from sortitor.core.gate import quota_for
from sortitor.core.people import read_people
from sortitor.core.previews import Count, Example, Preview, sealed
from sortitor.core.selection import Selection
from sortitor.operations import gate
from sortitor.operations.context import Context, must, must_match
from sortitor.store import devices as store_devices
from sortitor.store import groups as store_groups
from sortitor.store import people as store
from sortitor.store.engine import Line


def preview_import(ctx: Context, content: bytes, complete: bool = False) -> Preview:
    """What a people file would change. `complete`: it names everybody, so whom it does not name has
    left.
    """
    with ctx.reading() as connection:
        return _plan(connection, content, complete)[0]


def _plan(connection: Connection, content: bytes, complete: bool) -> tuple[Preview, list[int]]:
    counts = store.stage_import(connection, read_people(content))
    lines = store.staged_examples(connection)
    gone = store.absent(connection) if complete else []
    touched = counts["new"] + counts["changed"] + len(gone)
    leavers = (
        (
            Count(
                "left",
                "have left: the file does not name them",
                len(gone),
                "warn" if gone else "plain",
            ),
        )
        if complete
        else ()
    )
    shown = sealed(
        Preview(
            "Import people",
            f"Import {touched:,} {'person' if touched == 1 else 'people'}",
            (
                Count("new", "new people", counts["new"], "good"),
                Count("changed", "changed", counts["changed"]),
                Count("unchanged", "unchanged", counts["unchanged"]),
                Count("joins", "group memberships added", counts["joins"]),
                Count(
                    "leaves",
                    "group memberships ended",
                    counts["leaves"],
                    "warn" if counts["leaves"] else "plain",
                ),
                *leavers,
            ),
            tuple(
                [
                    *(Example(name, "person", "here", "left") for _, name in gone[:25]),
                    *(Example(name, field, before, after) for name, field, before, after in lines),
                ][:50]
            ),
            touched,
        ),
        [counts, lines, gone],
    )
    return shown, [person_id for person_id, _ in gone]


def apply_import(
    ctx: Context, content: bytes, digest: str, reason: str | None, complete: bool = False
) -> Preview:
    """Import the people of a file as previewed."""
    with ctx.changing() as connection:
        preview, gone = _plan(connection, content, complete)
        must_match(preview, digest)
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


def page(
    ctx: Context, query: str | None, group: str | None, after: int, limit: int
) -> Sequence[Line]:
    """People by id."""
    with ctx.reading() as connection:
        return store.page(connection, query, group, after, limit)


def set_left(ctx: Context, person_id: int, left: bool, reason: str | None) -> None:
    """Note that somebody has left, or is back."""
    with ctx.changing() as connection:
        person = must(store.one(connection, person_id), "person", person_id)
        store.leave(connection, [person_id], ctx.now if left else None)
        what = "has left" if left else "is back"
        ctx.record(
            connection,
            "person.left" if left else "person.back",
            "person",
            f"{person.name} {what}",
            subject_id=person_id,
            reason=reason,
        )


def set_inner(ctx: Context, group_id: int, inner: Sequence[int]) -> None:
    """Put exactly these groups into a group."""
    with ctx.changing() as connection:
        store_groups.hold_still(connection)
        group = must(store_groups.one(connection, group_id, lock=True), "group", group_id)
        named = [must(store_groups.one(connection, one), "group", one).name for one in inner]
        if group_id in inner:
            raise BadInput(
                "group_in_itself", f"Group “{group.name}” cannot be in itself.", "Leave it out."
            )
        store_groups.set_groups(connection, group_id, inner)
        store_groups.resolve(connection, [group_id])
        ctx.record(
            connection,
            "group.groups",
            "group",
            f"Group “{group.name}” holds {', '.join(named) or 'no groups'}",
            subject_id=group_id,
            before={"groups": group.groups},
            after={"groups": named},
        )


def groups(ctx: Context) -> Sequence[Line]:
    """All groups with the number of their people."""
    with ctx.reading() as connection:
        return store_groups.every(connection)


@dataclass(frozen=True, slots=True)
class Whole:
    """A person with their devices and quota."""

    person: Line
    devices: Sequence[Line]
    quota: int
    quota_policy: str


def one(ctx: Context, person_id: int) -> Whole:
    """One person with all that belongs to them."""
    with ctx.reading() as connection:
        person = must(store.one(connection, person_id), "person", person_id)
        devices = store_devices.page(
            connection, Selection(person_id=person_id), ctx.now, "id", False, None, 200
        )
        quota, policy = quota_for(frozenset(person.groups), gate.policies(connection)[1])
        return Whole(person, devices, quota, policy)
