"""Erasing retired devices, by hand or after their retention; it cannot be taken back."""

from __future__ import annotations

import json
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core import erasing as core
from sortitor.core.errors import BadInput, Conflict, NotFound
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.sweeps import Rule, brake
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.operations import heads, seals
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.selections import resolve_selection
from sortitor.operations.sweeps.rules import RULES, erasable, whoever
from sortitor.store import devices as store_devices
from sortitor.store import erasing as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.erasing import ErasableRow, Reach
from sortitor.store.erasing import ErasureRow as ErasureRow

_EXAMPLES = 50


@dataclass(frozen=True, slots=True)
class _Plan:
    """What would be erased."""

    preview: Preview
    rows: Sequence[ErasableRow]
    reach: Reach


def preview(ctx: Context, selection: Selection) -> Preview:
    """Which of the selected devices would be erased, and what goes with them."""
    with ctx.working_out() as connection:
        return _plan(ctx, connection, selection).preview


def _plan(ctx: Context, connection: Connection, selection: Selection, lock: bool = False) -> _Plan:
    if selection == Selection():
        raise BadInput(
            "no_devices", "No devices are named.", "Name them: all at once is never meant."
        )
    chosen = resolve_selection(connection, selection)
    number = store_devices.count(connection, chosen, ctx.now)
    if number > core.MOST_AT_ONCE:
        raise BadInput(
            "too_many_devices",
            f"{number:,} devices are named; {core.MOST_AT_ONCE:,} can be erased at once.",
            "Erase them in parts.",
        )
    found = store.selected(connection, chosen, ctx.now, lock)
    rows = [*filter(_goes, found)]
    reach = store.stage(connection, [row.id for row in rows])
    held = sum(row.held and row.stage is Stage.RETIRED for row in found)
    counts = (
        Count("erased", "devices to erase for ever", len(rows), "bad" if rows else "plain"),
        Count("other", "not retired, left as they are", len(found) - len(rows) - held),
        Count("held", "on hold, left as they are", held, "good" if held else "plain"),
        Count("arrivals", "arrivals emptied", reach.arrivals),
        Count("effects", "lines of timelines emptied", reach.entries),
        Count("files", "lots whose original file goes", reach.files),
    )
    shown = Preview(
        title=f"Erase {plural(len(rows), 'device')}",
        apply_label=f"Erase {plural(len(rows), 'device')} for ever",
        counts=counts,
        examples=tuple(_example(ctx, row) for row in rows[:_EXAMPLES]),
        examples_total=len(rows),
        warnings=_warnings(reach) if rows else (),
        nothing_to_do=not rows,
    )
    return _Plan(sealed(shown, [[row.id for row in rows], reach.drafts]), rows, reach)


def _goes(row: ErasableRow) -> bool:
    return row.stage is Stage.RETIRED and not row.held


def _warnings(reach: Reach) -> tuple[str, ...]:
    words = [
        "This cannot be taken back: what is known of them goes, their identifiers are free, and one"
        " that arrives again is a new device. The journal keeps digests and still verifies."
    ]
    if reach.drafts:
        lots = plural(reach.drafts, "lot")
        words.append(f"{lots} not yet applied names some of them and keeps its rows: discard it.")
    return tuple(words)


def _example(ctx: Context, row: ErasableRow) -> Example:
    subject = ctx.veil.label(row.id, row.name, row.serial, row.ownership)
    words = ", ".join(part for part in (row.platform, row.model, row.site) if part)
    return Example(subject, "stage", row.stage, "erased", words, row.id)


def erase(
    ctx: Context, selection: Selection, digest: str, confirm: int, reason: str | None
) -> ErasureRow:
    """Erase as previewed; `confirm` is the number of devices, typed by whoever does it."""
    # What is erased must have its seal: its digest is all that stays of it.
    seals.seal(ctx)
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, selection, lock=True)
        require_digest(plan.preview, digest)
        if not plan.rows:
            raise Conflict(
                "nothing_to_do",
                "None of these devices is retired and free of holds.",
                "Retire them first, or end their holds.",
            )
        core.check_confirmation(confirm, len(plan.rows))
        return _carry_out(ctx, connection, plan.rows, reason)


def _carry_out(
    ctx: Context, connection: Connection, rows: Sequence[ErasableRow], reason: str | None
) -> ErasureRow:
    ids = [row.id for row in rows]
    reach = store.stage(connection, ids)
    known = store.identifiers_of(connection, ids)
    digests = store.seals_of(connection, ids)
    if None in digests.values() or store.unsealed_effects(connection, ids):
        raise Conflict(
            "not_sealed",
            "The journal of these devices is still being sealed.",
            "Try again in a few seconds.",
        )
    entry = ctx.record(
        connection,
        "device.erase",
        "devices",
        f"{plural(len(ids), 'device')} erased",
        reason=reason,
        after={"devices": ids, "seals": {str(one): digest for one, digest in digests.items()}},
    )
    store.erase_from_journal(connection, ids, entry)
    lots = store.erase_beside(connection)
    store.erase_devices(connection, ids)
    erasure_id = store.add(
        connection,
        {
            "at": ctx.now,
            "by": ctx.actor.name,
            "devices": len(ids),
            "entry_id": entry,
            "certificate": {},
        },
        ids,
    )
    corporate = {row.id for row in rows if row.ownership is Ownership.CORPORATE}
    certificate = core.certificate(
        number=erasure_id,
        at=ctx.now,
        by=ctx.actor.name,
        reason=reason,
        salt=secrets.token_hex(16),
        devices=[(row.id, row.platform, row.ownership) for row in rows],
        # Of somebody's own device not even a digest stays: the numbers of a kind are soon tried.
        identifiers=[
            (one.device_id, one.kind, one.value.upper())
            for one in known
            if one.device_id in corporate
        ],
        gone={
            "devices": len(ids),
            "identifiers": len(known),
            "timeline_lines": reach.entries,
            "journal_entries": len(digests),
            "arrivals": reach.arrivals,
            "files_of_lots": len(lots),
        },
        entry_id=entry,
    )
    store.change(connection, erasure_id, {"certificate": certificate})
    return or_not_found(store.one(connection, erasure_id), "erasure", erasure_id)


def page(ctx: Context, before: int | None, limit: int) -> Sequence[ErasureRow]:
    """Erasures, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit)


def certificate(ctx: Context, erasure_id: int, seed: bytes) -> dict[str, Any]:
    """The certificate of an erasure, signed with the installation's key (JWS, RFC 7515)."""
    with ctx.reading() as connection:
        found = or_not_found(store.one(connection, erasure_id), "erasure", erasure_id)
    told = {name: found.certificate[name] for name in core.ORDER}
    return {**told, **heads.signed(json.dumps(told, ensure_ascii=False), seed)}


# ---- after the retention of a rule


def preview_due(ctx: Context, key: Key) -> Preview:
    """Which retired devices a rule's retention is over for."""
    with ctx.working_out() as connection:
        rule = RULES.find(connection, key).document
        return _plan(ctx, connection, _due(ctx, connection, rule)).preview


def erase_due(ctx: Context, key: Key, digest: str, confirm: int, reason: str | None) -> ErasureRow:
    """Erase them as previewed."""
    with ctx.reading() as connection:
        selection = _due(ctx, connection, RULES.find(connection, key).document)
    return erase(ctx, selection, digest, confirm, reason)


def _due(ctx: Context, connection: Connection, rule: Rule) -> Selection:
    """At most so many as can be erased at once; a number that no device has where there is none."""
    ids = erasable(ctx, connection, rule)
    return Selection(ids=tuple(ids[: core.MOST_AT_ONCE]) or (0,))


def run_scheduled(ctx: Context, kept: Kept[Rule]) -> None:
    """Erase what a rule's retention is over for. More at once than its brake allows is left to a
    coordinator, who is asked on the Today page.
    """
    rule = kept.document
    if not rule.retention_days:
        return
    seals.seal(ctx)
    with ctx.changing() as connection:
        ids = erasable(ctx, connection, rule)
        watched = store_devices.count(connection, whoever(connection, rule), ctx.now)
        if not ids or brake(len(ids), watched, rule):
            return
        chosen = Selection(ids=tuple(ids[: core.MOST_AT_ONCE]))
        rows = [*filter(_goes, store.selected(connection, chosen, ctx.now, lock=True))]
        if not rows:
            return
        words = f"{plural(rule.retention_days, 'day')} after they were retired, by “{rule.name}”"
        _carry_out(ctx, connection, rows, words)


def waiting(ctx: Context) -> list[tuple[Kept[Rule], int]]:
    """How many retired devices each rule's retention is over for."""
    with ctx.reading() as connection:
        rules = [kept for kept in RULES.shelf.every(connection) if kept.document.retention_days]
        found = [(kept, len(erasable(ctx, connection, kept.document))) for kept in rules]
    return [(kept, number) for kept, number in found if number]


def refuse_erased(connection: Connection, device_id: int) -> None:
    """Raise NotFound that says so where a device was erased."""
    erasure_id = store.of_device(connection, device_id)
    if erasure_id is not None:
        raise NotFound("device", f"{device_id} any more: it was erased (certificate {erasure_id})")
