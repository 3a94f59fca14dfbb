"""The Today page: what needs a hand, oldest first, each with the place where the hand is needed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from typing import Any
from urllib.parse import urlencode

from sortitor.core.ends import said
from sortitor.core.lifecycle import COUNTED
from sortitor.core.previews import plural
from sortitor.core.sweeps import Rule
from sortitor.core.vocabulary import EndKind, Gap, LotStatus, PoolState, SourceState, Stage
from sortitor.operations import (
    ends,
    erasing,
    gate,
    holds,
    kept_numbers,
    levels,
    licences,
    people,
)
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.operations.kept_numbers import Counting
from sortitor.operations.kits import lints
from sortitor.operations.sources import reading as sources
from sortitor.operations.sweeps import runs
from sortitor.operations.sweeps.rules import RULES
from sortitor.store import holds as store_holds
from sortitor.store import today as store

#: So many days before its end a credential needs a hand.
_TOLD_DAYS = 14
#: Devices in use of people who left.
_OF_LEAVERS = "person.left eq true and ({})".format(
    " or ".join(f'stage eq "{stage}"' for stage in sorted(COUNTED))
)
_SOON, _MOST_HOLDS = timedelta(days=14), 20


@dataclass(frozen=True, slots=True)
class Item:
    """One thing to do: `page` is the console's path, `command` the command line's way there."""

    kind: str
    title: str
    detail: str
    count: int
    since_at: datetime | None
    action: str
    page: str
    command: str


@dataclass(frozen=True, slots=True)
class Today:
    """What needs a hand, and the fleet by stage; its numbers were counted so many seconds ago."""

    items: list[Item]
    stages: dict[Stage, int]
    age_seconds: int


def read(ctx: Context) -> Today:
    """What needs a hand, oldest first."""
    with ctx.reading() as connection:
        numbers = store.numbers(connection, ctx.now)
        lots, braked = store.open_lots(connection, ctx.now), store.braked(connection)
        ending = store_holds.ending(connection, ctx.today, ctx.today + _SOON)
        rules = RULES.shelf.every(connection)
        gate_revision = gate.GATE.find(connection, gate.GATE_ID).revision
    counted = kept_numbers.known(ctx, _countings(ctx, rules, gate_revision))
    items = [
        *_arrivals(numbers),
        *_fleet(counted["fleet"]),
        *map(_lot, lots),
        *_pools(ctx),
        *_quota(counted["quota"]),
        *_due(rules, counted["due"]),
        *_erasable(rules, counted["erasable"]),
    ]
    items += [*_sources(ctx), *_ends(ctx), *_levels(ctx), *_lints(counted["lints"])]
    for run in braked:
        items.append(
            Item(
                "sweep",
                f"Sweep “{run.rule_name}” stopped and asks",
                f"It would change {run.retired + run.dormant:,} of {run.watched:,} devices;"
                f" {run.why or 'that is more than its brake'}.",
                run.retired + run.dormant,
                run.at,
                "Look at the sweep",
                f"/sweeps?rule={run.rule_id}",
                f"sortitor sweep preview {run.rule_id}",
            )
        )
    for hold in ending[:_MOST_HOLDS]:
        items.append(
            Item(
                kind="hold",
                title=f"The hold on {holds.label(ctx, hold)} ends on {hold.until_on}",
                detail=hold.reason,
                count=hold.devices,
                since_at=None,
                action="Look at the holds",
                page="/sweeps?tab=holds",
                command="sortitor hold list",
            )
        )
    items.sort(key=lambda item: (item.since_at is None, item.since_at))
    known = counted["fleet"]["stages"]
    stages = {stage: known[stage][0] for stage in Stage if stage in known}
    return Today(items, stages, counted.age_seconds)


def keep_up(ctx: Context) -> None:
    """Count anew what the page shows of a large fleet; by schedule."""
    with ctx.reading() as connection:
        rules = RULES.shelf.every(connection)
        gate_revision = gate.GATE.find(connection, gate.GATE_ID).revision
    kept_numbers.keep_up(ctx, _countings(ctx, rules, gate_revision))


def _countings(ctx: Context, rules: Sequence[Kept[Rule]], gate_revision: int) -> list[Counting]:
    """What is counted of the whole fleet, and on what it depends beside the fleet."""
    day = f"{ctx.today}"
    by_rules = " ".join([day, *(f"{kept.id}:{kept.revision}" for kept in rules)])
    return [
        Counting("fleet", _count_fleet),
        people.counting_over(ctx, gate_revision),
        Counting("due", _count_due, by_rules),
        Counting("erasable", _count_erasable, by_rules),
        Counting("lints", _count_lints, day),
    ]


def _count_fleet(ctx: Context) -> dict[str, Any]:
    with ctx.reading() as connection:
        stages = {
            row.stage: (row.devices, row.since.isoformat()) for row in store.stages(connection)
        }
        return {"stages": stages, "leavers": store.of_leavers(connection)}


def _count_due(ctx: Context) -> dict[str, int]:
    return {str(kept.id): number for kept, number in runs.due_counts(ctx)}


def _count_erasable(ctx: Context) -> dict[str, int]:
    return {str(kept.id): number for kept, number in erasing.waiting(ctx)}


def _count_lints(ctx: Context) -> dict[str, Any]:
    found = [one.lint for one in lints.find(ctx)]
    first = f"{found[0].about[:1].upper()}{found[0].about[1:]}: {found[0].words}" if found else ""
    return {"lints": len(found), "first": first}


def _fleet(counted: Mapping[str, Any]) -> Iterator[Item]:
    """What waits for somebody, and what leavers left."""
    parked, since = counted["stages"].get(Stage.PARKED, (0, None))
    if parked:
        yield Item(
            "parked",
            _waiting(parked),
            "They arrived and wait to be given to somebody.",
            parked,
            datetime.fromisoformat(since),
            "Assign them",
            "/arrivals",
            "sortitor arrival list --waiting",
        )
    if counted["leavers"]:
        yield Item(
            "leavers",
            f"{plural(counted['leavers'], 'device')} of people who left",
            "",
            counted["leavers"],
            None,
            "See them",
            f"/devices?{urlencode({'filter': _OF_LEAVERS})}",
            f"sortitor device list --filter '{_OF_LEAVERS}'",
        )


def _arrivals(numbers: store.NumbersRow) -> list[Item]:
    items = []
    if numbers.claims:
        items.append(
            Item(
                "claims",
                f"{plural(numbers.claims, 'arrival')} of a device that is in use",
                "Hand the device over, or turn the arrival away; until then it stays as it is.",
                numbers.claims,
                numbers.claims_since,
                "Decide",
                "/arrivals",
                "sortitor arrival list --waiting",
            )
        )
    if numbers.refused:
        items.append(
            Item(
                "refused",
                f"{plural(numbers.refused, 'device')} refused in the last 7 days",
                "Each refusal says which rule, which value and what would change it.",
                numbers.refused,
                numbers.refused_since,
                "Read why",
                "/arrivals?tab=refused",
                "sortitor arrival list --outcome refused",
            )
        )
    return items


def _lints(counted: Mapping[str, Any]) -> Iterator[Item]:
    """What is forgotten of what devices get, or cannot be."""
    number = counted["lints"]
    if number:
        yield Item(
            "kit",
            f"{plural(number, 'thing')} of what devices get {_need(number)} a look",
            counted["first"],
            number,
            None,
            "Look at the kits",
            "/kits",
            "sortitor kit lint",
        )


def _need(number: int) -> str:
    return "needs" if number == 1 else "need"


def _lot(lot: store.OpenLotRow) -> Item:
    counts = lot.counts
    left = counts["conflict"] + counts["reject"]
    if lot.status is LotStatus.APPLIED:
        detail = f"Applied; {plural(left, 'row')} of it {_need(left)} a look"
    else:
        detail = f"{counts['add']:,} to add, {counts['change']:,} to change,"
        detail += f" {left:,} {_need(left)} a look"
    return Item(
        "lot",
        f"Lot {lot.id} “{lot.name}”",
        detail,
        left or counts["add"] + counts["change"],
        lot.created_at,
        "Open the lot",
        f"/lots/{lot.id}",
        f"sortitor lot show {lot.id}",
    )


def _waiting(number: int) -> str:
    if number == 1:
        return "1 device waits to be assigned"
    return f"{number:,} devices wait to be assigned"


def _pools(ctx: Context) -> list[Item]:
    items = []
    for counted in licences.every(ctx):
        pool, number = counted.kept.document, counted.kept.id
        standing, state = counted.standing, counted.state
        if state is PoolState.COVERED:
            continue
        if counted.missing:
            title = f"{pool.name} is short of {plural(counted.missing, 'seat')}"
        else:
            title = f"Seats of {pool.name} have ended"
        detail = f"{counted.needed:,} needed, {standing.seats:,} there."
        if standing.lasts_on is not None:
            detail += f" {standing.in_grace:,} of them only until {standing.lasts_on:%F}."
        items.append(
            Item(
                kind="pool",
                title=title,
                detail=detail,
                count=counted.missing or standing.in_grace,
                since_at=None,
                action="Look at the pool",
                page=f"/licences/{number}",
                command=f"sortitor pool show {number}",
            )
        )
    return items


def _quota(counted: Mapping[str, Any]) -> list[Item]:
    number = len(counted["people"])
    if not number:
        return []
    names = ", ".join(counted["first"]) + (" …" if number > people.NAMED else "")
    return [
        Item(
            "quota",
            f"{number:,} {'person is' if number == 1 else 'people are'} over the quota",
            names,
            number,
            None,
            "See the people",
            "/people?over=1",
            "sortitor person list --over-quota",
        )
    ]


def _sources(ctx: Context) -> Iterator[Item]:
    """Sources whose last run came to nothing, and those that said nothing for too long."""
    for stands in sources.standings(ctx):
        name, number = stands.kept.document.name, stands.kept.id
        if stands.state is SourceState.FAILING:
            problem = stands.row.last_problem or {}
            title, words = f"“{name}” cannot be read", problem.get("detail", "")
            since = stands.row.last_at
        elif stands.state is SourceState.LATE:
            title, since = f"“{name}” has said nothing for too long", stands.good_at
            words = "What is known of it may be out of date."
        else:
            continue
        yield Item(
            kind="source",
            title=title,
            detail=words,
            count=1,
            since_at=since,
            action="Open the source",
            page=f"/sources/{number}",
            command=f"sortitor source show {number}",
        )


def _ends(ctx: Context) -> Iterator[Item]:
    """Credentials of sources that end within two weeks, or have ended."""
    today = ctx.now.date()
    for end in ends.every(ctx, [EndKind.CREDENTIAL]):
        left = end.days_left(today)
        if left > _TOLD_DAYS:
            continue
        yield Item(
            kind="end",
            title=said(end, today),
            detail="Renew it before the source can be read no longer.",
            count=1,
            since_at=datetime.combine(end.ends_on, time(), UTC) if left < 0 else None,
            action="Renew it",
            page=end.page,
            command=f"sortitor source show {end.page.rpartition('/')[2]}",
        )


def _levels(ctx: Context) -> Iterator[Item]:
    """What the systems disagree about; what is retired here and alive there by itself."""
    with ctx.reading() as connection:
        found = levels.open_gaps(connection)
    for alive in (True, False):
        some = [gap for gap in found if (gap[1] is Gap.ALIVE) == alive]
        number = sum(gap[2] for gap in some)
        if not number:
            continue
        what = plural(number, "device") if alive else plural(number, "discrepancy", "discrepancies")
        yield Item(
            kind="follow-up" if alive else "levels",
            title=f"{what} retired here and alive elsewhere" if alive else f"{what} to level",
            detail=(
                "Let the other system go of them, or carry it out by hand and say so."
                if alive
                else "Other systems know other things; each can be mended, put off or accepted."
            ),
            count=number,
            since_at=min(gap[3] for gap in some),
            action="Follow them up" if alive else "Level them",
            page="/levels?kind=alive&state=open" if alive else "/levels?state=open",
            command=f"sortitor level list --state open{' --kind alive' if alive else ''}",
        )


def _erasable(rules: Sequence[Kept[Rule]], counted: Mapping[str, int]) -> list[Item]:
    return [
        Item(
            kind="erasure",
            title=f"{plural(number, 'retired device')} past the retention of"
            f" “{kept.document.name}”",
            detail=f"Retired {kept.document.retention_days} days ago or earlier; it waits for you.",
            count=number,
            since_at=None,
            action="Preview the erasure",
            page=f"/sweeps?erasure={kept.id}",
            command=f"sortitor sweep erase {kept.id}",
        )
        for kept in rules
        if (number := counted.get(str(kept.id)))
    ]


def _due(rules: Sequence[Kept[Rule]], counted: Mapping[str, int]) -> list[Item]:
    items = []
    for kept in rules:
        number = counted.get(str(kept.id), 0)
        if not number:
            continue
        window = kept.document.idle_window_days
        items.append(
            Item(
                kind="sweep",
                title=f"{plural(number, 'device')} past the idle window of “{kept.document.name}”",
                detail=f"Idle for {window} days or more.",
                count=number,
                since_at=None,
                action="Preview the sweep",
                page=f"/sweeps?rule={kept.id}",
                command=f"sortitor sweep preview {kept.id}",
            )
        )
    return items
