"""Sweeps: looking at whom a rule would retire, retiring them, and bringing them back."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from sortitor.core import sweeps as core
from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.sweeps import Rule
from sortitor.core.vocabulary import Stage
from sortitor.operations import reverts
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.sweeps.rules import RULES, IdleDays, idle_days, watched
from sortitor.store import arrivals, devices
from sortitor.store import sweeps as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.sweeps import DueRow, RunRow

_EXAMPLES = 50
_MOST_GROUPS = 6


@dataclass(frozen=True, slots=True)
class _Plan:
    """Whom a rule would retire now."""

    preview: Preview
    due: Sequence[DueRow]
    watched: int


def preview(ctx: Context, key: Key) -> Preview:
    """Whom the rule would retire now, with the idle days of everyone it watches."""
    with ctx.reading() as connection:
        return _plan(ctx, connection, RULES.find(connection, key).document).preview


def _plan(ctx: Context, connection: Connection, rule: Rule) -> _Plan:
    window = rule.idle_window_days
    due = store.due(connection, watched(connection, rule), window, ctx.now)
    idle = idle_days(ctx, connection, rule)
    shown = Preview(
        title=f"Sweep “{rule.name}”: idle for {window} days or more",
        apply_label=_label(len(due)),
        counts=(*_counts(idle, len(due), window), *_grouped(due)),
        examples=tuple(map(_example, due[:_EXAMPLES])),
        examples_total=len(due),
        warnings=_warnings(rule, len(due), idle.watched),
        bars=tuple(core.histogram([(days, number) for days, number, _ in idle.counts], window)),
        bars_line_days=window,
        nothing_to_do=not due,
    )
    return _Plan(sealed(shown, [window, sorted(row.id for row in due)]), due, idle.watched)


def _label(due: int) -> str:
    return f"Retire {plural(due, 'device')}" if due else "Nothing to retire"


def _counts(idle: IdleDays, due: int, window: int) -> tuple[Count, ...]:
    on_hold = idle.on_hold(window)
    return (
        Count("retired", "devices to retire", due, "warn" if due else "plain"),
        Count("on_hold", "past the window, but on hold", on_hold, "good" if on_hold else "plain"),
        Count("watched", "devices watched", idle.watched),
        Count("shorter", "to retire with 30 days less", idle.past(max(window - 30, 0))),
        Count("longer", "to retire with 30 days more", idle.past(window + 30)),
    )


def _grouped(due: Sequence[DueRow]) -> list[Count]:
    by_site = Counter(row.site or "no site" for row in due)
    by_platform = Counter(row.platform or "no platform" for row in due)
    return [
        Count(f"{field}:{name}", name, number)
        for field, found in (("site", by_site), ("platform", by_platform))
        for name, number in found.most_common(_MOST_GROUPS)
    ]


def _example(row: DueRow) -> Example:
    note = f"{plural(row.idle, 'day')} idle"
    if row.person_name:
        note += f", {row.person_name}"
    return Example(
        subject=row.name or row.serial or f"device {row.id}",
        field="stage",
        before=row.stage,
        after=Stage.RETIRED,
        note=note,
        device_id=row.id,
    )


def _warnings(rule: Rule, due: int, watched_now: int) -> tuple[str, ...]:
    if not core.brake(due, watched_now, rule):
        return ()
    share = due * 100 / watched_now
    return (
        f"This is {share:.0f} % of what the rule watches, more than the brake of"
        f" {rule.brake_percent} %. A scheduled run would stop and ask.",
    )


def apply(ctx: Context, key: Key, digest: str, reason: str | None) -> RunRow:
    """Retire what the preview showed; credentials end and names become free."""
    with ctx.changing() as connection:
        kept = RULES.find(connection, key, lock=True)
        plan = _plan(ctx, connection, kept.document)
        require_digest(plan.preview, digest)
        if not plan.due:
            raise Conflict(
                code="nothing_to_do",
                detail=f"No device is past the window of “{kept.document.name}”.",
                remedy="Nothing has to be done.",
            )
        return _retire(ctx, connection, kept, plan, reason)


def _retire(
    ctx: Context, connection: Connection, kept: Kept[Rule], plan: _Plan, reason: str | None
) -> RunRow:
    run_id = _add_run(ctx, connection, kept, plan, "applied")
    entry = ctx.record(
        connection,
        "sweep.apply",
        "sweep rule",
        f"Sweep “{kept.document.name}” retired {plural(len(plan.due), 'device')}",
        subject_id=kept.id,
        reason=reason,
        after={"run": run_id, "retired": len(plan.due)},
    )
    ids = [row.id for row in plan.due]
    patch = json.dumps({"stage": Stage.RETIRED, "stage_at": ctx.now.isoformat()})
    patches = pl.DataFrame({"device_id": ids}).with_columns(patch=pl.lit(patch))
    devices.apply_patches(connection, entry, patches)
    arrivals.end_credentials(connection, ids, ctx.now, entry)
    store.change_run(connection, run_id, {"entry_id": entry})
    return or_not_found(store.run(connection, run_id), "sweep", run_id)


def _add_run(
    ctx: Context, connection: Connection, kept: Kept[Rule], plan: _Plan, state: str
) -> int:
    return store.add_run(
        connection,
        {
            "rule_id": kept.id,
            "rule_name": kept.document.name,
            "at": ctx.now,
            "by": ctx.actor.name,
            "state": state,
            "retired": len(plan.due),
            "watched": plan.watched,
        },
    )


def run_scheduled(ctx: Context) -> list[RunRow]:
    """Carry out every daily rule once a day; one that would take too many stops and asks."""
    done = []
    for wanted in RULES.every(ctx):
        if not wanted.document.daily:
            continue
        with ctx.changing() as connection:
            kept = RULES.shelf.one(connection, wanted.id, lock=True)
            if kept is None or store.ran_on(connection, kept.id, ctx.now.date()):
                continue
            plan = _plan(ctx, connection, kept.document)
            if not plan.due:
                continue
            if core.brake(len(plan.due), plan.watched, kept.document):
                done.append(_stop_and_ask(ctx, connection, kept, plan))
            else:
                done.append(_retire(ctx, connection, kept, plan, "daily schedule"))
    return done


def _stop_and_ask(ctx: Context, connection: Connection, kept: Kept[Rule], plan: _Plan) -> RunRow:
    run_id = _add_run(ctx, connection, kept, plan, "braked")
    would = f"it would retire {plural(len(plan.due), 'device')} of {plan.watched:,}"
    ctx.record(
        connection,
        "sweep.brake",
        "sweep rule",
        f"Sweep “{kept.document.name}” stopped: {would}",
        subject_id=kept.id,
    )
    return or_not_found(store.run(connection, run_id), "sweep", run_id)


def due_count(ctx: Context, rule: Rule) -> int:
    """How many devices a rule would retire now."""
    with ctx.reading() as connection:
        return idle_days(ctx, connection, rule).past(rule.idle_window_days)


def page(ctx: Context, before: int | None, limit: int) -> Sequence[RunRow]:
    """Runs, newest first."""
    with ctx.reading() as connection:
        return store.runs(connection, before, limit)


def _entry_of(connection: Connection, run_id: int) -> int:
    found = or_not_found(store.run(connection, run_id), "sweep", run_id)
    if found.state != "applied" or found.entry_id is None:
        raise Conflict(
            "not_applied",
            f"Sweep {run_id} is {found.state}; only an applied one can be reverted.",
            "Read the journal.",
        )
    return found.entry_id


def preview_revert(ctx: Context, run_id: int) -> Preview:
    """Which devices would come back, and which stay as they are."""
    with ctx.reading() as connection:
        entry_id = _entry_of(connection, run_id)
    return reverts.preview(ctx, entry_id)


def revert(ctx: Context, run_id: int, digest: str, reason: str | None) -> RunRow:
    """Bring the devices of a run back to the stage they had."""
    with ctx.reading() as connection:
        entry_id = _entry_of(connection, run_id)
    reverts.revert(ctx, entry_id, digest, reason)
    with ctx.reading() as connection:
        return or_not_found(store.run(connection, run_id), "sweep", run_id)
