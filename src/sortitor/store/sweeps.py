"""Sweeps: whom a rule watches and takes, and runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Connection,
    Date,
    FromClause,
    Text,
    and_,
    case,
    column,
    exists,
    false,
    func,
    literal,
    literal_column,
    not_,
    or_,
    select,
    table,
    text,
    tuple_,
    update,
)
from sqlalchemy.dialects.postgresql import JSONB, insert

from sortitor.core.lifecycle import SWEPT
from sortitor.core.selection import Selection
from sortitor.core.sweeps import Rule
from sortitor.core.vocabulary import Ownership, Stage
from sortitor.store import devices as store_devices
from sortitor.store.bulk import with_room
from sortitor.store.filters import covered, held, idle_case, idle_days, said_of
from sortitor.store.rows import number, read_all, read_one
from sortitor.store.tables import (
    cohort_members,
    devices,
    fleet_days,
    hold_devices,
    holds,
    people,
    sightings,
    sweeps,
)
from sortitor.store.zones import day_of


@dataclass(frozen=True, slots=True)
class NoticedRow:
    """A quiet device, with what a mail about it says."""

    id: int
    name: str | None
    site: str | None
    idle: int
    ownership: Ownership
    person_id: int | None
    person_mail: str | None
    serial: str | None
    retire_on: date | None

    @property
    def label(self) -> str:
        """What it is called in a mail, into which no number of somebody's own device is put."""
        serial = self.serial if self.ownership is not Ownership.PERSONAL else None
        return self.name or serial or f"device no. {self.id}"


@dataclass(frozen=True, slots=True)
class DueRow(NoticedRow):
    """A device that a rule takes now, and what it becomes; `held_until`: the last day of a hold
    that is over.
    """

    platform: str | None
    stage: Stage
    person_name: str | None
    becomes: Stage
    held_until: date | None


@dataclass(frozen=True, slots=True)
class RunRow:
    """One run of a rule; `state` is applied, reverted or braked, and `why` says why one stopped."""

    id: int
    rule_id: int | None
    rule_name: str
    at: datetime
    by: str
    state: str
    retired: int
    dormant: int
    watched: int
    held: int
    entry_id: int | None
    why: str | None


#: What becomes of a device that a rule watches. Those that a longer rule keeps are `kept N`, with
#: the place of that rule.
EARLY, HELD, WAITING = "early", "held", "waiting"
TAKEN = (Stage.RETIRED, Stage.DORMANT)
_KEPT = "kept "


@dataclass(frozen=True, slots=True)
class Look:
    """A rule with whom it watches, and those with longer windows, with theirs, at a moment."""

    rule: Rule
    watched: Selection
    longer: Sequence[tuple[Selection, int]]
    now: datetime
    today: date

    @property
    def idle(self) -> ColumnElement[int]:
        """Days since the last sign of life."""
        return idle_case(self.now)

    @property
    def condition(self) -> ColumnElement[bool]:
        """Which devices the rule watches."""
        return store_devices.matching(self.watched, self.now)

    @property
    def past(self) -> ColumnElement[bool]:
        """Which devices are past the rule's window."""
        return idle_days("ge", self.rule.idle_window_days, self.now)

    @property
    def outcome(self) -> ColumnElement[str]:
        """What becomes of a device now."""
        return self.becomes(held(self.now))

    def becomes(self, on_hold: ColumnElement[bool]) -> ColumnElement[str]:
        """The same, where it is known whether it is held. What the rules say is written out in the
        property test that this is held to.
        """
        rule = self.rule
        keeps = [
            (self._is_kept(watching, days), _word(f"{_KEPT}{place}"))
            for place, (watching, days) in enumerate(self.longer)
        ]
        notice: list[tuple[ColumnElement[bool], ColumnElement[str]]] = []
        if rule.dormant_days:
            over = idle_days("ge", rule.idle_window_days + rule.dormant_days, self.now)
            notice = [
                (devices.c.stage == Stage.ACTIVE, _word(Stage.DORMANT)),
                (_waits(rule, devices, over, self.today), _word(WAITING)),
            ]
        return case(
            (idle_days("lt", rule.idle_window_days, self.now), _word(EARLY)),
            (on_hold, _word(HELD)),
            *keeps,
            *notice,
            else_=_word(Stage.RETIRED),
        )

    def _is_kept(self, watching: Selection, days: int) -> ColumnElement[bool]:
        shorter = idle_days("lt", days, self.now)
        return and_(shorter, store_devices.matching(watching, self.now))


def _waits(
    rule: Rule, table: FromClause, over: ColumnElement[bool], today: date
) -> ColumnElement[bool]:
    """Whether a device past the window still has notice; `over`: it has been quiet for so long that
    the notice would have passed.
    """
    if not rule.dormant_days:
        return false()
    told = and_(table.c.stage == Stage.DORMANT, table.c.retire_on.is_not(None))
    active = table.c.stage == Stage.ACTIVE
    return case((told, table.c.retire_on > today), else_=and_(not_(active), not_(over)))


def _word(word: str) -> ColumnElement[str]:
    return literal_column(f"'{word}'", Text)


@dataclass(frozen=True, slots=True)
class Tally:
    """What becomes of everything that a rule watches.

    `idle`: (idle days, held) → devices; `outcomes`: outcome → (devices, a number that tells these
    devices from others); `spread`: (field, value, devices) of those that are taken, most first.
    """

    idle: dict[tuple[int, bool], int]
    outcomes: dict[str, tuple[int, int]]
    spread: list[tuple[str, str | None, int]]

    @property
    def kept(self) -> dict[int, int]:
        """The place of a longer rule → how many are left to it."""
        found = self.outcomes.items()
        return {int(w.removeprefix(_KEPT)): n for w, (n, _) in found if w.startswith(_KEPT)}


def tally(connection: Connection, look: Look) -> Tally:
    """What becomes of everything that a rule watches, in one pass over the fleet."""
    with_room(connection)
    on_hold = held(look.now).label("held")
    # Each boundary lets the database work out once what stands on both sides of it.
    known = select(devices, look.idle.label("idle"), on_hold).where(look.condition).offset(0)
    watched = known.subquery()
    outcome: ColumnElement[str] = said_of(watched, look.becomes(watched.c.held))
    seen = (
        select(
            watched.c.id,
            watched.c.site,
            watched.c.platform,
            watched.c.idle,
            watched.c.held,
            outcome.label("outcome"),
        )
        .offset(0)
        .subquery()
    )
    keys = (seen.c.idle, seen.c.held, seen.c.outcome, seen.c.site, seen.c.platform)
    sets = func.grouping_sets(
        tuple_(seen.c.idle, seen.c.held),
        tuple_(seen.c.outcome),
        tuple_(seen.c.outcome, seen.c.site),
        tuple_(seen.c.outcome, seen.c.platform),
    )
    mark = func.bit_xor(func.hashint8extended(seen.c.id, 0))
    query = select(*keys, func.grouping(*keys), func.count(), mark).group_by(sets)
    idle: dict[tuple[int, bool], int] = {}
    outcomes: dict[str, tuple[int, int]] = {}
    spread: list[tuple[str, str | None, int]] = []
    for days, on_hold, became, site, platform, mask, count, marked in connection.execute(query):
        if mask == _BY_IDLE:
            idle[(days, on_hold)] = count
        elif mask == _BY_OUTCOME:
            outcomes[became] = (count, marked)
        elif became in TAKEN:
            field, value = ("site", site) if mask == _BY_SITE else ("platform", platform)
            spread.append((field, value, count))
    return Tally(idle, outcomes, spread)


#: Which of idle, held, outcome, site, platform a group of the tally does not tell apart.
_BY_IDLE, _BY_OUTCOME, _BY_SITE = 0b00111, 0b11011, 0b11001


def idle_counts(
    connection: Connection,
    watched: Selection,
    others: Sequence[tuple[Selection, int]],
    now: datetime,
) -> list[tuple[int, int, int, int]]:
    """`(idle days, devices, of them on hold, of the rest those that are not past the window of one
    of the other rules that watches them)` over everything a rule watches.
    """
    is_kept = or_(
        false(),
        *(
            and_(idle_days("lt", days, now), store_devices.matching(watching, now))
            for watching, days in others
        ),
    )
    # Each boundary lets the database work out once what stands on both sides of it.
    each = (
        select(idle_case(now).label("idle"), held(now).label("held"), is_kept.label("kept"))
        .where(store_devices.matching(watched, now))
        .offset(0)
        .subquery()
    )
    query = (
        select(
            each.c.idle,
            func.count(),
            func.count().filter(each.c.held),
            func.count().filter(not_(each.c.held), each.c.kept),
        )
        .group_by(each.c.idle)
        .order_by(each.c.idle)
    )
    return [(row[0], row[1], row[2], row[3]) for row in connection.execute(query)]


def taken(
    connection: Connection,
    look: Look,
    outcome: str,
    limit: int | None = None,
    released: bool | None = None,
) -> list[DueRow]:
    """Devices that meet with one outcome now, the longest idle first. `released`: only those that
    were held until lately, or only the others.
    """
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.site,
            devices.c.platform,
            devices.c.stage,
            devices.c.ownership,
            look.idle.label("idle"),
            devices.c.person_id,
            people.c.name.label("person_name"),
            people.c.mail.label("person_mail"),
            store_devices.an_identifier("serial"),
            devices.c.retire_on,
            _word(outcome).label("becomes"),
            _released_on(look.today).label("held_until"),
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        # The first two by the index of the day of the last sign of life.
        .where(look.past, look.condition, look.outcome == _word(outcome))
        .order_by(devices.c.seen_on, devices.c.id)
        .limit(limit)
    )
    if released is not None:
        lately = covered(*_over_lately(look.today))
        query = query.where(lately if released else not_(lately))
    return read_all(connection, query, DueRow)


def count_released(connection: Connection, look: Look) -> int:
    """How many of those that are taken now were held until lately."""
    if not connection.execute(select(exists().where(*_over_lately(look.today)))).scalar_one():
        return 0
    query = select(func.count()).where(
        look.past,
        look.condition,
        covered(*_over_lately(look.today)),
        look.outcome.in_([_word(one) for one in TAKEN]),
    )
    return number(connection, query)


#: For how many days after its end a hold is told of in a sweep's preview.
_LATELY_DAYS = 60


def _last_day() -> ColumnElement[date]:
    return func.least(holds.c.until_on, day_of(holds.c.ended_at), type_=Date)


def _over_lately(today: date) -> tuple[ColumnElement[bool], ...]:
    over = or_(holds.c.ended_at.is_not(None), holds.c.until_on < today)
    return over, holds.c.from_on <= today, _last_day() >= today - timedelta(_LATELY_DAYS)


def _released_on(today: date) -> ColumnElement[date]:
    """The last day of the latest of a device's own or its person's holds that are over."""
    its_own = select(hold_devices.c.hold_id).where(hold_devices.c.device_id == devices.c.id)
    inside = select(cohort_members.c.cohort_id).where(cohort_members.c.device_id == devices.c.id)
    whose = or_(
        holds.c.id.in_(its_own),
        holds.c.person_id == devices.c.person_id,
        holds.c.cohort_id.in_(inside),
    )
    latest = select(func.max(_last_day())).where(whose, *_over_lately(today))
    return latest.correlate(devices).scalar_subquery()


def take(
    connection: Connection, look: Look, patches: Mapping[str, Mapping[str, Any]]
) -> dict[str, tuple[int, int]]:
    """Hold the devices that are taken now and put their patches, by what they become, into the
    temporary table `patches`; gives the outcomes as `tally` does.
    """
    outcome = look.outcome
    chosen = (
        select(devices.c.id.label("id"), outcome.label("becomes"))
        .where(look.past, look.condition, outcome.in_([_word(one) for one in TAKEN]))
        .order_by(devices.c.id)
        .with_for_update(of=devices)
        .cte("chosen")
    )
    patch = case(
        *((chosen.c.becomes == _word(one), literal(given, JSONB)) for one, given in patches.items())
    )
    connection.execute(text("DROP TABLE IF EXISTS patches"))
    connection.execute(text(_PATCHES))
    into = insert(table("patches", column("device_id"), column("patch"), column("becomes")))
    lines = select(chosen.c.id, patch, chosen.c.becomes)
    connection.execute(into.from_select(["device_id", "patch", "becomes"], lines))
    connection.execute(text("ANALYZE patches"))
    return {row[0]: (row[1], row[2]) for row in connection.execute(text(_MARKS))}


_PATCHES = """
CREATE TEMP TABLE patches (device_id bigint PRIMARY KEY, patch jsonb NOT NULL, becomes text)
    ON COMMIT DROP
"""
_MARKS = """
SELECT becomes, count(*), bit_xor(hashint8extended(device_id, 0)) FROM patches GROUP BY becomes
"""


def noticed(
    connection: Connection, watched: Selection, now: datetime, first: date, last: date
) -> list[NoticedRow]:
    """Dormant devices that are retired between two days, and that nobody holds."""
    query = (
        select(
            devices.c.id,
            devices.c.name,
            devices.c.site,
            devices.c.ownership,
            idle_case(now).label("idle"),
            devices.c.person_id,
            people.c.mail.label("person_mail"),
            store_devices.an_identifier("serial"),
            devices.c.retire_on,
        )
        .outerjoin(people, people.c.id == devices.c.person_id)
        .where(
            store_devices.matching(watched, now),
            devices.c.retire_on.between(first, last),
            not_(held(now)),
        )
        .order_by(devices.c.id)
    )
    return read_all(connection, query, NoticedRow)


def due_counts(
    connection: Connection, rules: Sequence[tuple[Rule, Selection]], now: datetime, today: date
) -> list[int]:
    """How many devices each rule takes now, in one pass over the fleet: which rules watch a device
    is worked out once.
    """
    if not rules:
        return []
    first = min(rule.idle_window_days for rule, _ in rules)
    watches = [
        store_devices.matching(watched, now).label(f"watches_{place}")
        for place, (_, watched) in enumerate(rules)
    ]
    chosen = (devices.c.stage.in_(SWEPT), idle_days("ge", first, now), not_(held(now)))
    known = select(devices.c.stage, devices.c.retire_on, idle_case(now).label("idle"), *watches)
    seen = known.where(*chosen).offset(0).subquery()
    counted = []
    for place, (rule, _) in enumerate(rules):
        longer = [
            and_(seen.c[f"watches_{other}"], seen.c.idle < one.idle_window_days)
            for other, (one, _) in enumerate(rules)
            if one.idle_window_days > rule.idle_window_days
        ]
        waits = _waits(rule, seen, seen.c.idle >= rule.idle_window_days + rule.dormant_days, today)
        due = (seen.c[f"watches_{place}"], seen.c.idle >= rule.idle_window_days)
        counted.append(func.count().filter(*due, not_(or_(false(), *longer)), not_(waits)))
    return list(connection.execute(select(*counted)).one())


def add_run(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new run's id."""
    return number(connection, sweeps.insert().values(**values).returning(sweeps.c.id))


def change_run(connection: Connection, run_id: int, values: Mapping[str, Any]) -> None:
    """Set a run's columns."""
    connection.execute(update(sweeps).where(sweeps.c.id == run_id).values(**values))


def run(connection: Connection, run_id: int) -> RunRow | None:
    """One run."""
    return read_one(connection, select(sweeps).where(sweeps.c.id == run_id), RunRow)


def runs(connection: Connection, before: int | None, limit: int) -> list[RunRow]:
    """Runs, newest first."""
    query = select(sweeps).order_by(sweeps.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(sweeps.c.id < before)
    return read_all(connection, query, RunRow)


def last_at(connection: Connection, rule_id: int) -> datetime | None:
    """When the schedule dealt with the rule last."""
    of_rule = (sweeps.c.rule_id == rule_id, sweeps.c.by == "schedule")
    found: datetime | None = connection.execute(
        select(func.max(sweeps.c.at)).where(*of_rule)
    ).scalar_one()
    return found


# ---- a silence of the whole fleet


def seen_since(connection: Connection, since: datetime) -> int:
    """How many devices gave a sign of life since then."""
    query = select(func.count()).where(sightings.c.last_seen_at >= since)
    return connection.execute(query).scalar_one()


def note_day(connection: Connection, day: date, seen: int) -> None:
    """Keep how many devices were seen up to a moment of a day: the most of its moments."""
    kept = insert(fleet_days).values(day=day, seen=seen)
    most = func.greatest(fleet_days.c.seen, kept.excluded.seen)
    connection.execute(kept.on_conflict_do_update(index_elements=["day"], set_={"seen": most}))


def days_before(connection: Connection, day: date, most: int) -> list[int]:
    """How many were seen on the days before, the latest first."""
    query = select(fleet_days.c.seen).where(fleet_days.c.day < day)
    return list(connection.execute(query.order_by(fleet_days.c.day.desc()).limit(most)).scalars())
