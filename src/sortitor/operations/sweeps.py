"""Sweeps: rules, previews, runs."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import polars as pl
from sqlalchemy import Connection

from sortitor.core import sweeps as core
from sortitor.core.errors import Conflict, Stale
from sortitor.core.filters import all_of, one_of, parse
from sortitor.core.lifecycle import SWEPT
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Stage
from sortitor.operations import reverts
from sortitor.operations.context import Context, must, must_match
from sortitor.operations.selections import meant
from sortitor.store import arrivals, devices
from sortitor.store import sweeps as store
from sortitor.store.engine import Line

FIELDS = reverts.RULE_FIELDS


def rules(ctx: Context) -> Sequence[Line]:
    """Rules by name."""
    with ctx.reading() as connection:
        return store.rules(connection)


def rule(ctx: Context, rule_id: int) -> Line:
    """One rule."""
    with ctx.reading() as connection:
        return must(store.rule(connection, rule_id), "sweep rule", rule_id)


def _values(ctx: Context, rule: core.Rule) -> dict[str, Any]:
    core.check_rule(rule, ctx.limits.idle_window_days)
    if rule.filter:
        parse(rule.filter)
    return {
        "name": rule.name,
        "idle_window_days": rule.idle_window_days,
        "filter": rule.filter,
        "daily": rule.daily,
        "brake_percent": rule.brake_percent,
    }


def _core_rule(row: Line) -> core.Rule:
    return core.Rule(row.name, row.idle_window_days, row.filter, row.daily, row.brake_percent)


def _watched(connection: Connection, rule: core.Rule) -> Selection:
    """The devices that a rule looks at."""
    return meant(
        connection,
        Selection(
            filter=all_of(parse(rule.filter) if rule.filter else None, one_of("stage", SWEPT))
        ),
    )


def add_rule(ctx: Context, rule: core.Rule) -> Line:
    """A new rule."""
    values = _values(ctx, rule)
    with ctx.changing() as connection:
        rule_id = store.add_rule(connection, values)
        ctx.record(
            connection,
            "rule.add",
            "sweep rule",
            f"Sweep rule {rule.name} added: {rule.idle_window_days} days",
            subject_id=rule_id,
            after=values,
        )
        return must(store.rule(connection, rule_id), "sweep rule", rule_id)


def edit_rule(ctx: Context, rule_id: int, rule: core.Rule, revision: int | None) -> Line:
    """Change a rule; `revision` (If-Match) must be the one that was read."""
    values = _values(ctx, rule)
    with ctx.changing() as connection:
        before = must(store.rule(connection, rule_id, lock=True), "sweep rule", rule_id)
        if revision is not None and revision != before.revision:
            raise Stale("the rule")
        store.change_rule(connection, rule_id, values)
        ctx.record(
            connection,
            "rule.edit",
            "sweep rule",
            f"Sweep rule {rule.name} changed",
            subject_id=rule_id,
            before={name: before._mapping[name] for name in FIELDS},
            after=values,
        )
        return must(store.rule(connection, rule_id), "sweep rule", rule_id)


def remove_rule(ctx: Context, rule_id: int) -> None:
    """Remove a rule; its runs stay, and a revert brings it back."""
    with ctx.changing() as connection:
        before = must(store.rule(connection, rule_id, lock=True), "sweep rule", rule_id)
        store.remove_rule(connection, rule_id)
        ctx.record(
            connection,
            "rule.remove",
            "sweep rule",
            f"Sweep rule {before.name} removed",
            subject_id=rule_id,
            before={name: before._mapping[name] for name in FIELDS},
        )


def preview(ctx: Context, rule_id: int) -> Preview:
    """Whom the rule would retire now, with the idle days of everyone it watches."""
    with ctx.reading() as connection:
        return _plan(
            ctx,
            connection,
            _core_rule(must(store.rule(connection, rule_id), "sweep rule", rule_id)),
        )[0]


def _plan(
    ctx: Context, connection: Connection, rule: core.Rule
) -> tuple[Preview, Sequence[Line], int]:
    watching = _watched(connection, rule)
    due = store.due(connection, watching, rule.idle_window_days, ctx.now)
    idle = store.idle_counts(connection, watching, ctx.now)
    watched, window = sum(number for _, number, _ in idle), rule.idle_window_days

    def beyond(days: int) -> int:
        return sum(number - held for past, number, held in idle if past >= days)

    held = sum(held for past, _, held in idle if past >= window)
    counts = [
        Count("retired", "devices to retire", len(due), "warn"),
        Count("held", "past the window, but held", held, "good" if held else "plain"),
        Count("watched", "devices watched", watched),
        Count("shorter", "to retire with 30 days less", beyond(max(window - 30, 0))),
        Count("longer", "to retire with 30 days more", beyond(window + 30)),
    ]
    for field in ("site", "platform"):
        found: dict[str, int] = {}
        for row in due:
            found[row._mapping[field] or f"no {field}"] = (
                found.get(row._mapping[field] or f"no {field}", 0) + 1
            )
        counts += [
            Count(f"{field}:{name}", name, number)
            for name, number in sorted(found.items(), key=lambda item: -item[1])[:6]
        ]
    examples = tuple(
        Example(
            row.name or row.serial or f"device {row.id}",
            "stage",
            row.stage,
            "retired",
            f"{row.idle} days idle" + (f", {row.person_name}" if row.person_name else ""),
            row.id,
        )
        for row in due[:50]
    )
    warnings = []
    if core.brake(len(due), watched, rule):
        warnings.append(
            f"This is {len(due) * 100 / watched:.0f} % of what the rule watches, more than the"
            f" brake of {rule.brake_percent} %. A scheduled run would stop and ask."
        )
    shown = Preview(
        f"Sweep “{rule.name}”: idle for {window} days or more",
        f"Retire {plural(len(due), 'device')}",
        tuple(counts),
        examples,
        len(due),
        tuple(warnings),
        tuple(core.histogram([(past, number) for past, number, _ in idle])),
        window,
    )
    return sealed(shown, [window, [row.id for row in due]]), due, watched


def apply(ctx: Context, rule_id: int, digest: str, reason: str | None) -> Line:
    """Retire what the preview showed; credentials end and names become free."""
    with ctx.changing() as connection:
        row = must(store.rule(connection, rule_id, lock=True), "sweep rule", rule_id)
        shown, due, watched = _plan(ctx, connection, _core_rule(row))
        must_match(shown, digest)
        return _retire(ctx, connection, row, due, watched, reason)


def _retire(
    ctx: Context,
    connection: Connection,
    rule: Line,
    due: Sequence[Line],
    watched: int,
    reason: str | None,
) -> Line:
    run_id = store.add_run(
        connection,
        {
            "rule_id": rule.id,
            "rule_name": rule.name,
            "at": ctx.now,
            "by": ctx.actor.name,
            "state": "applied",
            "retired": len(due),
            "watched": watched,
        },
    )
    entry = ctx.record(
        connection,
        "sweep.apply",
        "sweep rule",
        f"Sweep “{rule.name}” retired {plural(len(due), 'device')}",
        subject_id=rule.id,
        reason=reason,
        after={"run": run_id, "retired": len(due)},
    )
    patch = json.dumps({"stage": Stage.RETIRED, "stage_at": ctx.now.isoformat()})
    if due:
        devices.apply_patches(
            connection,
            entry,
            pl.DataFrame({"device_id": [row.id for row in due]}).with_columns(patch=pl.lit(patch)),
        )
        arrivals.end_credentials(connection, [row.id for row in due], ctx.now, entry)
    store.change_run(connection, run_id, {"entry_id": entry})
    return must(store.run(connection, run_id), "sweep", run_id)


def run_scheduled(ctx: Context) -> list[Line]:
    """Carry out every daily rule once a day; one that would take too many stops and asks
    instead.
    """
    done = []
    with ctx.reading() as connection:
        wanted = [row.id for row in store.rules(connection, daily_only=True)]
    for rule_id in wanted:
        with ctx.changing() as connection:
            row = store.rule(connection, rule_id, lock=True)
            if row is None or store.ran_on(connection, rule_id, ctx.now.date()):
                continue
            _, due, watched = _plan(ctx, connection, _core_rule(row))
            if not due:
                continue
            if core.brake(len(due), watched, _core_rule(row)):
                run_id = store.add_run(
                    connection,
                    {
                        "rule_id": rule_id,
                        "rule_name": row.name,
                        "at": ctx.now,
                        "by": ctx.actor.name,
                        "state": "braked",
                        "retired": len(due),
                        "watched": watched,
                    },
                )
                ctx.record(
                    connection,
                    "sweep.brake",
                    "sweep rule",
                    f"Sweep “{row.name}” stopped: it would retire {plural(len(due), 'device')} of"
                    f" {watched:,}",
                    subject_id=rule_id,
                )
                done.append(must(store.run(connection, run_id), "sweep", run_id))
            else:
                done.append(_retire(ctx, connection, row, due, watched, "daily schedule"))
    return done


def due_count(ctx: Context, rule: Line) -> int:
    """How many devices a rule would retire now."""
    with ctx.reading() as connection:
        plain = _core_rule(rule)
        return sum(
            number - held
            for past, number, held in store.idle_counts(
                connection, _watched(connection, plain), ctx.now
            )
            if core.past(past, plain)
        )


def runs(ctx: Context, before: int | None, limit: int) -> Sequence[Line]:
    """Runs, newest first."""
    with ctx.reading() as connection:
        return store.runs(connection, before, limit)


def _entry(connection: Connection, run_id: int) -> int:
    found = must(store.run(connection, run_id), "sweep", run_id)
    if found.state != "applied":
        raise Conflict(
            "not_applied",
            f"Sweep {run_id} is {found.state}; only an applied one can be reverted.",
            "Read the journal.",
        )
    return int(found.entry_id)


def preview_revert(ctx: Context, run_id: int) -> Preview:
    """Which devices would come back, and which stay as they are."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, run_id)
    return reverts.preview(ctx, entry_id)


def revert(ctx: Context, run_id: int, digest: str, reason: str | None) -> Line:
    """Bring the devices of a run back to the stage they had."""
    with ctx.reading() as connection:
        entry_id = _entry(connection, run_id)
    reverts.revert(ctx, entry_id, digest, reason)
    with ctx.reading() as connection:
        return must(store.run(connection, run_id), "sweep", run_id)
