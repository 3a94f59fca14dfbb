"""What a changed gate would have said to today's fleet, and to the arrivals of the last weeks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta

import polars as pl

from sortitor.core.gate import Gate
from sortitor.core.gate import replay as core
from sortitor.core.gate.replay import Replay, Spoken, Turn
from sortitor.core.previews import Example, plural
from sortitor.core.vocabulary import Outcome
from sortitor.operations.context import Context
from sortitor.operations.gate import documents
from sortitor.store import arrivals as store_arrivals
from sortitor.store import devices as store_devices
from sortitor.store import gate as store
from sortitor.store.engine import Connection

#: How far back arrivals are replayed.
DAYS = 90
FLEET, ARRIVALS = "fleet", "arrivals"
_ALL = 1_000_000_000


@dataclass(frozen=True, slots=True)
class Replayed:
    """What a change turns: of the fleet, of the arrivals; `without_facts` arrivals are older than
    the keeping of their facts and were not looked at.
    """

    fleet: Replay
    arrivals: Replay
    days: int
    without_facts: int
    spoken: Spoken


@dataclass(frozen=True, slots=True)
class TurnedRow:
    """One device or arrival that a changed gate meets otherwise."""

    id: int
    device_id: int | None
    subject: str
    person: str | None
    site: str | None
    before: Outcome
    after: Outcome
    explanation: str
    remedy: str


def replay(ctx: Context, proposed: Gate) -> Replayed:
    """What saving the proposed gate would have meant."""
    proposed.check()
    with ctx.aside(as_now=True).reading() as connection:
        return work_out(
            ctx, connection, documents.in_force(connection, ctx.today), proposed.on(ctx.today)
        )


def work_out(ctx: Context, connection: Connection, current: Gate, proposed: Gate) -> Replayed:
    """The same between two gates, in a transaction."""
    spoken = core.spoken_of(current, proposed)
    since = ctx.now - timedelta(days=DAYS)
    with_facts, without = store.arrivals_number(connection, since)
    fleet, past = Replay(store.fleet_number(connection)), Replay(with_facts)
    for found, kinds, facts_of in (
        (fleet, store.fleet_kinds(connection, spoken, ctx.now), core.of_the_fleet),
        (past, store.arrival_kinds(connection, spoken, since), core.of_the_past),
    ):
        for alike in kinds:
            arrival = facts_of(alike.facts)
            turn = core.compared(arrival, alike.facts, spoken, current, proposed)
            if turn is not None:
                found.add(alike.key, alike.number, alike.example_id, turn)
    return Replayed(fleet, past, DAYS, without, spoken)


def turned_page(
    ctx: Context,
    proposed: Gate,
    of: str,
    outcome: Outcome | None,
    code: str | None,
    after: int,
    limit: int,
) -> list[TurnedRow]:
    """The devices (or arrivals) that turn to an outcome, for a reason; by number."""
    proposed.check()
    with ctx.aside(as_now=True).reading() as connection:
        replayed = work_out(
            ctx, connection, documents.in_force(connection, ctx.today), proposed.on(ctx.today)
        )
        return list(_rows(ctx, connection, replayed, of, outcome, code, after, limit))


def turned_frame(
    ctx: Context, proposed: Gate, of: str, outcome: Outcome | None, code: str | None
) -> pl.DataFrame:
    """All of them, for a file."""
    rows = turned_page(ctx, proposed, of, outcome, code, 0, _ALL)
    columns = ("Number", "Device", "Person", "Site", "Now", "Then", "Why", "What to do")
    lines = [
        (
            str(row.id),
            row.subject,
            row.person,
            row.site,
            row.before.value,
            row.after.value,
            row.explanation,
            row.remedy,
        )
        for row in rows
    ]
    return pl.DataFrame(lines, schema=dict.fromkeys(columns, pl.String), orient="row")


def examples(connection: Connection, replayed: Replayed) -> Iterator[Example]:
    """A line for each kind of devices of today that turns."""
    fleet = replayed.fleet
    kinds = sorted(fleet.turns, key=lambda key: -fleet.numbers[key])
    lines = store_devices.several(connection, [fleet.examples[key] for key in kinds[:50]])
    for key in kinds[:50]:
        turn, line = fleet.turns[key], lines[fleet.examples[key]]
        platform = line.platform.label if line.platform else "platform unknown"
        what = " ".join(filter(None, (platform, line.os_version)))
        yield Example(
            subject=plural(fleet.numbers[key], "device"),
            field=f"{what}, {line.ownership}",
            before=turn.before.value,
            after=turn.after.value,
            note=" ".join(reason.explanation for reason in turn.reasons),
            device_id=line.id,
        )


def _rows(
    ctx: Context,
    connection: Connection,
    replayed: Replayed,
    of: str,
    outcome: Outcome | None,
    code: str | None,
    after: int,
    limit: int,
) -> Iterator[TurnedRow]:
    if of == FLEET:
        keys = replayed.fleet.keys(outcome, code)
        found = store.fleet_of(connection, replayed.spoken, ctx.now, keys, after, limit)
        lines = store_devices.several(connection, [number for number, _ in found])
        for number, key in found:
            line = lines[number]
            yield _row(
                replayed.fleet.turns[key], number, number, line.label, line.person_name, line.site
            )
        return
    keys = replayed.arrivals.keys(outcome, code)
    since = ctx.now - timedelta(days=replayed.days)
    found = store.arrivals_of(connection, replayed.spoken, since, keys, after, limit)
    past = store_arrivals.several(connection, [number for number, _ in found])
    for number, key in found:
        knock = past[number]
        yield _row(
            replayed.arrivals.turns[key],
            number,
            knock.device_id,
            knock.label(ctx.veil.stated(knock.stated, knock.ownership)),
            knock.person_name,
            knock.site,
        )


def _row(
    turn: Turn,
    number: int,
    device_id: int | None,
    subject: str,
    person: str | None,
    site: str | None,
) -> TurnedRow:
    return TurnedRow(
        id=number,
        device_id=device_id,
        subject=subject,
        person=person,
        site=site,
        before=turn.before,
        after=turn.after,
        explanation=" ".join(reason.explanation for reason in turn.reasons),
        remedy=" ".join(dict.fromkeys(reason.remedy for reason in turn.reasons)),
    )
