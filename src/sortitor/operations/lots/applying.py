"""Taking a lot into the fleet, and out of it again."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.core.columns import IDENTIFIER_COLUMNS
from sortitor.core.errors import Conflict
from sortitor.core.lots import Decided
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import LotStatus, Verdict
from sortitor.operations import quotas, reverts
from sortitor.operations.context import Context, require_digest
from sortitor.operations.gate import in_force
from sortitor.operations.lots.checking import draft, known, recheck, words
from sortitor.operations.lots.reading import with_kept_values, with_people
from sortitor.operations.lots.veil import veiled_rows
from sortitor.store import lots as store
from sortitor.store.engine import Connection
from sortitor.store.lots import HeadRow

_EXAMPLES = 50
_TONES = {Verdict.ADD: "good", Verdict.CONFLICT: "warn", Verdict.REJECT: "bad"}


def preview(ctx: Context, lot_id: int) -> Preview:
    """What applying the draft would do to the fleet as it is now."""
    with ctx.bookkeeping() as connection:
        lot = draft(connection, lot_id)
        # Applying decides anew in any case, so a preview need not where nothing has happened since
        # the last look.
        if store.changed_since(connection, lot.checked_at_entry_id):
            recheck(ctx, connection, lot)
        return _shown(ctx, connection, lot_id)


def _shown(ctx: Context, connection: Connection, lot_id: int) -> Preview:
    """The preview of the verdicts that are kept."""
    lot = known(connection, lot_id)
    counts = lot.counts
    examples = [*_changed(ctx, connection, lot)]
    if len(examples) < _EXAMPLES and counts["add"]:
        examples += _added(ctx, connection, lot, _EXAMPLES - len(examples))
    shown = Preview(
        title=f"Apply lot {lot.id} “{lot.name}”",
        apply_label=_label(counts["add"], counts["change"]),
        counts=tuple(_count(verdict, counts.get(verdict, 0)) for verdict in Verdict),
        examples=tuple(examples[:_EXAMPLES]),
        examples_total=counts["add"] + counts["change"],
        warnings=_warnings(connection, lot),
    )
    return sealed(shown, lot.digest)


def _label(added: int, changed: int) -> str:
    acts = []
    if added:
        acts.append(f"add {added:,}")
    if changed:
        acts.append(f"change {changed:,}")
    if not acts:
        return "Close the lot (nothing to change)"
    noun = "device" if added + changed == 1 else "devices"
    return f"{' and '.join(acts).capitalize()} {noun}"


def _count(verdict: Verdict, number: int) -> Count:
    tone = _TONES.get(verdict, "plain") if number else "plain"
    return Count(verdict, _LABELS[verdict], number, tone)


def _changed(ctx: Context, connection: Connection, lot: HeadRow) -> Iterator[Example]:
    """What becomes of the devices that are known."""
    found = store.rows(connection, lot.id, Verdict.CHANGE, None, 0, _EXAMPLES)
    for row in with_people(connection, veiled_rows(ctx, connection, lot, found)):
        for field, pair in (row.changes or {}).items():
            yield Example(
                subject=row.device_name or f"device no. {row.device_id}",
                field=field,
                before=pair["old"],
                after=pair["new"],
                note=f"row {row.row}",
                device_id=row.device_id,
            )


def _added(ctx: Context, connection: Connection, lot: HeadRow, most: int) -> Iterator[Example]:
    """The devices that are new: what each is known by, and its model."""
    identifying = _headers(lot, *IDENTIFIER_COLUMNS)
    models = _headers(lot, "model")
    found = store.rows(connection, lot.id, Verdict.ADD, None, 0, most)
    found = with_kept_values(ctx, connection, lot, found)
    for row in veiled_rows(ctx, connection, lot, found):
        cells = {**row.cells, **(row.edited or {}), **row.kept}
        known_by = next((cells[header] for header in identifying if cells.get(header)), None)
        model = next((cells[header] for header in models if cells.get(header)), None)
        whose = lot.defaults.get("ownership")
        yield Example(
            subject=known_by or f"row {row.row}",
            field="device",
            before=None,
            after=model or lot.defaults.get("model") or "new",
            note=", ".join(part for part in (f"row {row.row}", whose) if part),
        )


def _headers(lot: HeadRow, *columns: str) -> list[str]:
    return [header for header, column in lot.columns.items() if column in columns]


_LABELS = {
    Verdict.ADD: "devices to add",
    Verdict.CHANGE: "devices to change",
    Verdict.UNCHANGED: "rows unchanged",
    Verdict.CONFLICT: "rows in conflict",
    Verdict.REJECT: "rows rejected",
    Verdict.NO_ROW: "lines that are no rows",
}


def _warnings(connection: Connection, lot: HeadRow) -> tuple[str, ...]:
    warnings = []
    if left := lot.counts["conflict"] + lot.counts["reject"]:
        warnings.append(
            f"{plural(left, 'row')} {'stays' if left == 1 else 'stay'} in the lot:"
            f" {'it contradicts' if left == 1 else 'they contradict'} the fleet or cannot be read."
        )
    if turned := store.turned_corporate(connection, lot.id) if lot.counts["change"] else 0:
        warnings.append(
            f"{plural(turned, 'personal device')} would become corporate, which changes what may be"
            " seen of them."
        )
    return tuple(warnings)


def apply(ctx: Context, lot_id: int, digest: str, reason: str | None) -> HeadRow:
    """Take all add and change rows into the fleet, in one transaction."""
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        store.serialise_appliers(connection)
        decided = recheck(ctx, connection, lot, lock=True)
        require_digest(_shown(ctx, connection, lot_id), digest)
        take_in(ctx, connection, lot, decided, reason)
        return known(connection, lot_id)


def take_in(
    ctx: Context, connection: Connection, lot: HeadRow, decided: Decided, reason: str | None
) -> None:
    """Write what was decided of a lot, in the transaction of whoever applies it."""
    entry = ctx.record(
        connection,
        "lot.apply",
        "lot",
        f"Lot “{lot.name}” applied: {words(decided.counts)}",
        subject_id=lot.id,
        reason=reason,
        before={"status": lot.status},
        after={"status": "applied", **decided.counts},
    )
    store.learn_makers(connection, decided.rows["maker"].drop_nulls().unique(), ctx.now)
    store.write_devices(connection, lot.id, entry, decided, ctx.now, ctx.today, ctx.counting)
    quotas.require_room(connection, in_force(connection, ctx.today), entry)
    store.change(
        connection,
        lot.id,
        {"status": LotStatus.APPLIED, "applied_at": ctx.now, "entry_id": entry},
    )


def discard(ctx: Context, lot_id: int, reason: str | None) -> HeadRow:
    """Put a draft aside; its rows stay readable."""
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        store.change(connection, lot_id, {"status": LotStatus.DISCARDED})
        ctx.record(
            connection,
            "lot.discard",
            "lot",
            f"Lot “{lot.name}” discarded",
            subject_id=lot_id,
            reason=reason,
        )
        return known(connection, lot_id)


def _entry(connection: Connection, lot_id: int) -> int:
    lot = known(connection, lot_id)
    if lot.status is not LotStatus.APPLIED or lot.entry_id is None:
        raise Conflict(
            "not_applied",
            f"Lot {lot_id} is {lot.status}; only an applied lot can be reverted.",
            "Read the lot's history.",
        )
    return lot.entry_id


def preview_revert(ctx: Context, lot_id: int) -> Preview:
    """What reverting the lot would do, and what it would leave and why."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, lot_id)
    return reverts.preview(ctx, entry_id)


def revert(ctx: Context, lot_id: int, digest: str, reason: str | None) -> HeadRow:
    """Take an applied lot back as previewed."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, lot_id)
    reverts.revert(ctx, entry_id, digest, reason)
    with ctx.reading() as connection:
        return known(connection, lot_id)
