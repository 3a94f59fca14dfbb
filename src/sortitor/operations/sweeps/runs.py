"""Sweeps: looking at whom a rule would retire, retiring them, and bringing them back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from statistics import median

import polars as pl

from sortitor.core import sweeps as core
from sortitor.core.errors import Conflict, FactsMoved
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.sweeps import Rule
from sortitor.core.vocabulary import Stage
from sortitor.operations import erasing, reverts
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.sweeps import notices
from sortitor.operations.sweeps.rules import RULES, IdleDays, watched
from sortitor.store import arrivals, devices
from sortitor.store import sweeps as store
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.sweeps import DueRow, Look, RunRow, Tally

_EXAMPLES = 50
_MOST_GROUPS = 6
_EARLY = timedelta(minutes=10)


@dataclass(frozen=True, slots=True)
class _Plan:
    """What a rule would do now: how many it would retire, and make dormant; `outcomes` of those
    that it takes, with what tells them from others.
    """

    look: Look
    preview: Preview
    outcomes: dict[str, tuple[int, int]]
    watched: int
    held: int

    @property
    def retired(self) -> int:
        """How many it would retire."""
        return self.outcomes.get(Stage.RETIRED, (0, 0))[0]

    @property
    def dormant(self) -> int:
        """How many it would give notice."""
        return self.outcomes.get(Stage.DORMANT, (0, 0))[0]

    @property
    def taken(self) -> int:
        """How many it would change."""
        return self.dormant + self.retired


def preview(ctx: Context, key: Key) -> Preview:
    """Whom the rule would retire now, with the idle days of everyone it watches."""
    with ctx.aside(as_now=True).reading(one_moment=True) as connection:
        return _plan(ctx, connection, RULES.find(connection, key)).preview


def due_frame(ctx: Context, rule: Rule) -> pl.DataFrame:
    """The devices that a rule, saved or not, would make dormant or retire now, as a table."""
    rule.check()
    with ctx.aside(as_now=True).reading() as connection:
        longer = _longer(rule, RULES.shelf.every(connection))
        look = _look(ctx, connection, rule, longer)
        found = [row for one in store.TAKEN for row in store.taken(connection, look, one)]
    lines = []
    for row in found:
        later = row.becomes is Stage.DORMANT
        day = ctx.today + timedelta(rule.dormant_days) if later else ctx.today
        serial = ctx.veil.identifier(row.serial, row.ownership)
        told = (row.name, serial, row.site, row.platform, row.person_name, row.stage, row.becomes)
        lines.append((str(row.id), *told, str(row.idle), day.isoformat()))
    columns = ("Device", "Name", "Serial", "Site", "Platform", "Person", "Stage", "Becomes")
    schema = dict.fromkeys((*columns, "Idle days", "Retired on"), pl.String)
    return pl.DataFrame(lines, schema=schema, orient="row")


def _look(ctx: Context, connection: Connection, rule: Rule, longer: Sequence[Rule]) -> Look:
    keeps = [(watched(connection, one), one.idle_window_days) for one in longer]
    return Look(rule, watched(connection, rule), keeps, ctx.now, ctx.today)


def _plan(ctx: Context, connection: Connection, kept: Kept[Rule]) -> _Plan:
    rule, window = kept.document, kept.document.idle_window_days
    longer = _longer(rule, RULES.shelf.every(connection))
    look = _look(ctx, connection, rule, longer)
    tally = store.tally(connection, look)
    outcomes = {str(one): tally.outcomes[one] for one in store.TAKEN if one in tally.outcomes}
    idle = IdleDays.of(tally.idle)
    plan = _Plan(look, _EMPTY, outcomes, idle.watched, idle.on_hold(window))
    released = store.count_released(connection, look) if plan.taken else 0
    retired, dormant = plan.retired, plan.dormant
    counts = [
        Count("retired", "devices to retire", retired, "warn" if retired else "plain"),
        *_noticed(rule, dormant, tally.outcomes.get(store.WAITING, (0, 0))[0]),
        *_released(released),
        *_left({longer[place].name: number for place, number in tally.kept.items()}),
        *_counts(idle, window),
        *_grouped(tally),
    ]
    shown = Preview(
        title=f"Sweep “{rule.name}”: idle for {window} days or more",
        apply_label=_label(dormant, retired),
        counts=tuple(counts),
        examples=_examples(ctx, connection, look, outcomes, released),
        examples_total=plan.taken,
        warnings=_warnings(rule, plan.taken, idle.watched),
        bars=tuple(core.histogram([(days, number) for days, number, _ in idle.counts], window)),
        bars_line_days=window,
        nothing_to_do=not plan.taken,
    )
    return replace(plan, preview=sealed(shown, [window, rule.dormant_days, outcomes]))


_EMPTY = Preview("", "", (), (), 0)


def _examples(
    ctx: Context, connection: Connection, look: Look, outcomes: Iterable[str], released: int
) -> tuple[Example, ...]:
    """Those whose hold is over come first: somebody wanted to keep them."""
    rows: list[DueRow] = []
    for lately in (True, False) if released else (None,):
        for one in outcomes:
            room = _EXAMPLES - len(rows)
            rows += store.taken(connection, look, one, room, lately) if room else []
    return tuple(_example(ctx, look.rule, row) for row in rows)


def _released(number: int) -> list[Count]:
    words = "of them held until lately; they are listed first"
    return [Count("released", words, number, "warn")] if number else []


def _longer(rule: Rule, rules: Sequence[Kept[Rule]]) -> list[Rule]:
    """The rules that count rather than this one where both watch a device: those with a longer
    window.
    """
    return [
        other.document
        for other in rules
        if other.document.name != rule.name
        and other.document.idle_window_days > rule.idle_window_days
    ]


def _label(dormant: int, retired: int) -> str:
    acts = []
    if retired:
        acts.append(f"retire {plural(retired, 'device')}")
    if dormant:
        acts.append(f"give {plural(dormant, 'device')} notice")
    return " and ".join(acts).capitalize() or "Nothing to retire"


def _noticed(rule: Rule, dormant: int, waiting: int) -> list[Count]:
    if not rule.dormant_days:
        return []
    told = f"become dormant: retired in {plural(rule.dormant_days, 'day')} unless they wake"
    return [
        Count("dormant", told, dormant, "warn" if dormant else "plain"),
        Count("waiting", "dormant already, and not yet due", waiting),
    ]


def _left(left: Mapping[str, int]) -> list[Count]:
    most = sorted(left.items(), key=lambda one: (-one[1], one[0]))[:_MOST_GROUPS]
    return [
        Count(f"left:{name}", f"left to “{name}”, whose window is longer", number, "good")
        for name, number in most
    ]


def _counts(idle: IdleDays, window: int) -> tuple[Count, ...]:
    on_hold = idle.on_hold(window)
    return (
        Count("on_hold", "past the window, but on hold", on_hold, "good" if on_hold else "plain"),
        Count("watched", "devices watched", idle.watched),
        Count("shorter", "past it with 30 days less", idle.past(max(window - 30, 0))),
        Count("longer", "past it with 30 days more", idle.past(window + 30)),
    )


def _grouped(tally: Tally) -> list[Count]:
    groups = []
    for wanted in ("site", "platform"):
        found: Counter[str] = Counter()
        for field, value, number in tally.spread:
            if field == wanted:
                found[value or f"no {field}"] += number
        most = sorted(found.items(), key=lambda one: (-one[1], one[0]))[:_MOST_GROUPS]
        groups += [Count(f"{wanted}:{name}", name, number) for name, number in most]
    return groups


def _example(ctx: Context, rule: Rule, row: DueRow) -> Example:
    note = f"{plural(row.idle, 'day')} idle"
    if row.person_name:
        note += f", {row.person_name}"
    if row.held_until is not None:
        note += f", held until {row.held_until:%F}"
    if row.becomes is Stage.DORMANT:
        note += f", retired on {ctx.today + timedelta(rule.dormant_days):%F}"
    return Example(
        subject=ctx.veil.label(row.id, row.name, row.serial, row.ownership),
        field="stage",
        before=row.stage,
        after=row.becomes,
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
    """Do what the preview showed; credentials of what is retired end, and its names become free."""
    with ctx.changing() as connection:
        kept = RULES.find(connection, key, lock=True)
        plan = _plan(ctx, connection, kept)
        require_digest(plan.preview, digest)
        if not plan.taken:
            raise Conflict(
                code="nothing_to_do",
                detail=f"No device is due by “{kept.document.name}”.",
                remedy="Nothing has to be done.",
            )
        return _carry_out(ctx, connection, kept, plan, reason)


def _carry_out(
    ctx: Context, connection: Connection, kept: Kept[Rule], plan: _Plan, reason: str | None
) -> RunRow:
    rule, moment = kept.document, ctx.now.isoformat()
    retire_on = ctx.today + timedelta(rule.dormant_days)
    told: Sequence[DueRow] = ()
    if plan.dormant and ctx.limits.sends_mail:
        told = store.taken(connection, plan.look, Stage.DORMANT)
    patches: dict[str, dict[str, str]] = {
        Stage.RETIRED: {"stage": Stage.RETIRED, "stage_at": moment},
        Stage.DORMANT: {
            "stage": Stage.DORMANT,
            "stage_at": moment,
            "retire_on": retire_on.isoformat(),
        },
    }
    # What moved since it was counted, such as a device that just woke, is seen here at the latest.
    if store.take(connection, plan.look, patches) != plan.outcomes:
        raise FactsMoved(_plan(ctx, connection, kept).preview)
    run_id = _add_run(ctx, connection, kept, plan, "applied")
    said = [f"retired {plural(plan.retired, 'device')}"] if plan.retired else []
    if plan.dormant:
        said.append(f"gave {plural(plan.dormant, 'device')} notice until {retire_on:%F}")
    entry = ctx.record(
        connection,
        "sweep.apply",
        "sweep rule",
        f"Sweep “{rule.name}” {' and '.join(said)}",
        subject_id=kept.id,
        reason=reason,
        after={"run": run_id, "retired": plan.retired, "dormant": plan.dormant},
    )
    devices.patch_table(connection, entry)
    arrivals.end_credentials_of_retired(connection, ctx.now, entry)
    notices.tell(ctx, connection, rule, [(row, retire_on) for row in told])
    store.change_run(connection, run_id, {"entry_id": entry})
    return or_not_found(store.run(connection, run_id), "sweep", run_id)


def _add_run(
    ctx: Context,
    connection: Connection,
    kept: Kept[Rule],
    plan: _Plan,
    state: str,
    why: str | None = None,
) -> int:
    return store.add_run(
        connection,
        {
            "rule_id": kept.id,
            "rule_name": kept.document.name,
            "at": ctx.now,
            "by": ctx.actor.name,
            "state": state,
            "retired": plan.retired,
            "dormant": plan.dormant,
            "watched": plan.watched,
            "held": plan.held,
            "why": why,
        },
    )


def run_scheduled(ctx: Context) -> list[RunRow]:
    """Carry out every rule whose hours have passed; one that would take too many, or that meets a
    silence of the whole fleet, stops and asks. Reminders of days of retirement go out beside.
    """
    silence = _silence(ctx)
    done = []
    for wanted in RULES.every(ctx):
        hours = wanted.document.every_hours
        if hours is None:
            continue
        erasing.run_scheduled(ctx, wanted)
        with ctx.changing() as connection:
            kept = RULES.shelf.one(connection, wanted.id, lock=True)
            if kept is None:
                continue
            last = store.last_at(connection, kept.id)
            # A run takes its time: those of the same hours may come a few minutes early.
            if last is not None and ctx.now - last < timedelta(hours=hours) - _EARLY:
                continue
            notices.remind(ctx, connection, kept.document, watched(connection, kept.document))
            plan = _plan(ctx, connection, kept)
            if not plan.taken:
                continue
            why = silence or _too_many(kept.document, plan)
            if why:
                done.append(_stop_and_ask(ctx, connection, kept, plan, why))
            else:
                done.append(_carry_out(ctx, connection, kept, plan, "by schedule"))
    return done


def _silence(ctx: Context) -> str | None:
    """Why nothing is retired now although devices are due: far fewer than on other days gave a sign
    of life, so that something on the way has rather failed. What was seen is kept for other days.
    """
    with ctx.bookkeeping() as connection:
        seen = store.seen_since(connection, ctx.now - timedelta(days=1))
        usual = store.days_before(connection, ctx.today, core.BACK_DAYS)
        store.note_day(connection, ctx.today, seen)
    if not core.is_silent(seen, usual):
        return None
    return (
        f"{seen:,} devices gave a sign of life in the last 24 hours, usually"
        f" {int(median(usual)):,} do: look whether a relay or the network is down"
    )


def _too_many(rule: Rule, plan: _Plan) -> str | None:
    if not core.brake(plan.taken, plan.watched, rule):
        return None
    return f"that is more than its brake of {rule.brake_percent} %"


def _stop_and_ask(
    ctx: Context, connection: Connection, kept: Kept[Rule], plan: _Plan, why: str
) -> RunRow:
    run_id = _add_run(ctx, connection, kept, plan, "braked", why)
    would = f"it would change {plural(plan.taken, 'device')} of {plan.watched:,}; {why}"
    ctx.record(
        connection,
        "sweep.brake",
        "sweep rule",
        f"Sweep “{kept.document.name}” stopped: {would}",
        subject_id=kept.id,
    )
    return or_not_found(store.run(connection, run_id), "sweep", run_id)


def due_counts(ctx: Context) -> list[tuple[Kept[Rule], int]]:
    """How many devices are due by each rule now."""
    with ctx.reading() as connection:
        rules = RULES.shelf.every(connection)
        pairs = [(kept.document, watched(connection, kept.document)) for kept in rules]
        counted = store.due_counts(connection, pairs, ctx.now, ctx.today)
        return list(zip(rules, counted, strict=True))


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
