"""Taking a lot into the fleet, and out of it again."""

from __future__ import annotations

from sqlalchemy import Connection

from sortitor.core.columns import IDENTIFIER_COLUMNS
from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.vocabulary import LotStatus, Verdict
from sortitor.operations import reverts
from sortitor.operations.context import Context, must, must_match
from sortitor.operations.lots.checking import draft, recheck, words
from sortitor.store import lots as store
from sortitor.store.engine import Line

_EXAMPLES = 50
_TONES = {Verdict.ADD: "good", Verdict.CONFLICT: "warn", Verdict.REJECT: "bad"}


def preview(ctx: Context, lot_id: int) -> Preview:
    """What applying the draft would do to the fleet as it is now."""
    with ctx.reading() as connection:
        lot = draft(connection, lot_id)
        # Applying decides anew in any case, so a preview need not where nothing has happened since
        # the last look.
        if store.moved_since(connection, lot.seen_entry):
            recheck(ctx, connection, lot)
        return _shown(connection, lot_id)


def _shown(connection: Connection, lot_id: int) -> Preview:
    """The preview of the verdicts that are kept."""
    lot = must(store.one(connection, lot_id), "lot", lot_id)
    counts = lot.counts
    examples = [
        Example(f"row {row.row}", field, pair["old"], pair["new"], device_id=row.device_id)
        for row in store.rows(connection, lot_id, Verdict.CHANGE, None, 0, _EXAMPLES)
        for field, pair in (row.changes or {}).items()
        if field != "person_id"
    ]
    if len(examples) < _EXAMPLES and counts["add"]:
        identifying = [
            header for header, column in lot.columns.items() if column in IDENTIFIER_COLUMNS
        ]
        models = [header for header, column in lot.columns.items() if column == "model"]
        for row in store.rows(connection, lot_id, Verdict.ADD, None, 0, _EXAMPLES - len(examples)):
            cells = {**row.cells, **(row.edited or {})}
            words = [
                next((cells[h] for h in identifying if cells.get(h)), ""),
                *(cells.get(h) or "" for h in models),
                lot.defaults.get("model", "") if not models else "",
            ]
            examples.append(
                Example(
                    f"row {row.row}",
                    "device",
                    None,
                    " ".join(filter(None, words)),
                    lot.defaults.get("ownership", ""),
                )
            )
    acts = [f"add {counts['add']:,}"] * bool(counts["add"]) + [
        f"change {counts['change']:,}"
    ] * bool(counts["change"])
    total = counts["add"] + counts["change"]
    label = (
        f"{' and '.join(acts).capitalize()} {'device' if total == 1 else 'devices'}"
        if acts
        else "Close the lot (nothing to change)"
    )
    return sealed(
        Preview(
            f"Apply lot {lot.id} “{lot.name}”",
            label,
            tuple(
                Count(
                    verdict,
                    _LABELS[verdict],
                    counts[verdict],
                    _TONES.get(verdict, "plain") if counts[verdict] else "plain",
                )
                for verdict in Verdict
            ),
            tuple(examples[:_EXAMPLES]),
            total,
            _warnings(connection, lot),
        ),
        lot.digest,
    )


_LABELS = {
    Verdict.ADD: "devices to add",
    Verdict.CHANGE: "devices to change",
    Verdict.UNCHANGED: "rows unchanged",
    Verdict.CONFLICT: "rows in conflict",
    Verdict.REJECT: "rows rejected",
}


def _warnings(connection: Connection, lot: Line) -> tuple[str, ...]:
    warnings = []
    if left := lot.counts["conflict"] + lot.counts["reject"]:
        warnings.append(
            f"{plural(left, 'row')} stay in the lot: they contradict the fleet or cannot be read."
        )
    if turned := store.turned_corporate(connection, lot.id) if lot.counts["change"] else 0:
        warnings.append(
            f"{plural(turned, 'personal device')} would become corporate, which changes what may be"
            " seen of them."
        )
    return tuple(warnings)


def apply(ctx: Context, lot_id: int, digest: str, reason: str | None) -> Line:
    """Take all add and change rows into the fleet, in one transaction."""
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        store.serialise_appliers(connection)
        decided = recheck(ctx, connection, lot, lock=True)
        must_match(_shown(connection, lot_id), digest)
        entry = ctx.record(
            connection,
            "lot.apply",
            "lot",
            f"Lot “{lot.name}” applied: {words(decided.counts)}",
            subject_id=lot_id,
            reason=reason,
            before={"status": lot.status},
            after={"status": "applied", **decided.counts},
        )
        store.write_devices(connection, lot_id, entry, decided, ctx.now, ctx.counting)
        store.change(
            connection,
            lot_id,
            {"status": LotStatus.APPLIED, "applied_at": ctx.now, "entry_id": entry},
        )
        return must(store.one(connection, lot_id), "lot", lot_id)


def discard(ctx: Context, lot_id: int, reason: str | None) -> Line:
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
        return must(store.one(connection, lot_id), "lot", lot_id)


def _entry(connection: Connection, lot_id: int) -> int:
    lot = must(store.one(connection, lot_id), "lot", lot_id)
    if lot.status != LotStatus.APPLIED:
        raise Conflict(
            "not_applied",
            f"Lot {lot_id} is {lot.status}; only an applied lot can be reverted.",
            "Read the lot's history.",
        )
    return int(lot.entry_id)


def preview_revert(ctx: Context, lot_id: int) -> Preview:
    """What reverting the lot would do, and what it would leave and why."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, lot_id)
    return reverts.preview(ctx, entry_id)


def revert(ctx: Context, lot_id: int, digest: str, reason: str | None) -> Line:
    """Take an applied lot back as previewed."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, lot_id)
    reverts.revert(ctx, entry_id, digest, reason)
    with ctx.reading() as connection:
        return must(store.one(connection, lot_id), "lot", lot_id)
