"""The comparison of the fleet with the rosters, in SQL; `core/levels.py` owns its meaning."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, cast

import polars as pl
from sqlalchemy import (
    ColumnElement,
    Connection,
    Select,
    and_,
    case,
    func,
    literal,
    or_,
    select,
    true,
    update,
)
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Gap, GapState
from sortitor.store import bulk, locks
from sortitor.store.devices.select import matching
from sortitor.store.engine import raw
from sortitor.store.rows import among, read_all, read_one
from sortitor.store.settling import written
from sortitor.store.tables import (
    devices,
    discrepancies,
    identifiers,
    journal,
    level_days,
    levels,
    roster_devices,
    source_runs,
)

#: Field of a line → what the fleet says, and whether the fleet's silence counts.
_OURS = {
    "model": ("d.model", False),
    "order_name": ("d.order_name", False),
    "person": ("p.user_name", True),
    "site": ("d.site", False),
    "name": ("d.name", False),
}
_SAME = {"person": "lower(r.person) = lower(p.user_name) OR lower(r.person) = lower(p.mail)"}


def _differs(field: str) -> str:
    """Whether a line says something else of a field than the fleet does."""
    ours, alone = _OURS[field]
    same = _SAME.get(field, f"lower(r.{field}) = lower({ours})")
    both = "" if alone else f" AND {ours} IS NOT NULL"
    # What is the same to the letter, as most is, needs no folding of cases.
    return f"(r.{field} IS NOT NULL{both} AND (r.{field} = {ours} OR {same}) IS NOT TRUE)"


#: Devices of which a source has several lines; the first by key speaks. Only those are looked at
#: that have more lines than sources.
_DOUBLED = """
SELECT r.source_id, r.device_id, min(r.key) AS key
FROM known k JOIN roster_devices r ON r.device_id = k.device_id
WHERE k.lines > length(replace(k.bits::bit(32)::text, '0', ''))
GROUP BY r.source_id, r.device_id HAVING count(*) > 1
"""
#: The few lines of which something is to be said: one pass over all of them.
_ODD = f"""
SELECT r.source_id, r.key, d.id AS device_id, d.stage,
    {", ".join(f"{_differs(field)} AS {field}_differs" for field in _OURS)},
    {", ".join(f"{ours} AS our_{field}, r.{field}" for field, (ours, _) in _OURS.items())}
FROM roster_devices r LEFT JOIN devices d ON d.id = r.device_id
LEFT JOIN people p ON p.id = d.person_id
WHERE d.id IS NULL OR d.stage = 'retired' OR {" OR ".join(map(_differs, _OURS))}
"""  # noqa: S608
_FIRST = """NOT EXISTS (SELECT FROM doubled x WHERE x.source_id = o.source_id
    AND x.device_id = o.device_id AND x.key <> o.key)"""
_FIELDS = ", ".join(f"('{field}', {field}_differs, our_{field}, {field})" for field in _OURS)
_FOUND_COLUMNS = ("key", "kind", "source_id", "device_id", "roster_key", "field", "ours", "theirs")
_FOUND = f"""
SELECT 'unknown/' || o.source_id || '/' || o.key, 'unknown', o.source_id, NULL::bigint, o.key,
    NULL, NULL, NULL
FROM odd o WHERE o.device_id IS NULL
UNION ALL SELECT 'alive/' || o.source_id || '/' || o.device_id, 'alive', o.source_id, o.device_id,
    o.key, NULL, NULL, NULL
FROM odd o WHERE o.stage = 'retired' AND {_FIRST}
UNION ALL SELECT 'twice/' || x.source_id || '/' || x.device_id, 'twice', x.source_id, x.device_id,
    x.key, NULL, NULL, NULL
FROM doubled x JOIN devices d ON d.id = x.device_id WHERE d.stage <> 'retired'
UNION ALL SELECT 'differs/' || o.source_id || '/' || o.device_id || '/' || v.field, 'differs',
    o.source_id, o.device_id, o.key, v.field, v.ours, v.theirs
FROM odd o CROSS JOIN LATERAL (VALUES {_FIELDS}) AS v (field, differs, ours, theirs)
WHERE o.stage <> 'retired' AND v.differs AND {_FIRST}
"""  # noqa: S608


def hold(connection: Connection) -> None:
    """Let the systems be compared once at a time."""
    connection.execute(select(func.pg_advisory_xact_lock(locks.LEVELS)))


def find(connection: Connection, reading: Connection, source_ids: Sequence[int]) -> None:
    """Work out, in the temporary table `found`, every disagreement but the missing ones. It is
    written by `connection`; what is compared is read by `reading`, the same one or a standby's.
    """
    bulk.with_room(connection)
    raw(connection).execute(
        'DROP TABLE IF EXISTS found; CREATE TEMP TABLE found (key text COLLATE "C", kind text,'
        ' source_id bigint, device_id bigint, roster_key text COLLATE "C", field text, ours text,'
        " theirs text, near_id bigint, near_percent int) ON COMMIT DROP"
    )
    steps = {"known": _known(source_ids), "doubled": _DOUBLED, "odd": _ODD}
    if reading is connection:
        _keep(connection, steps)
        bulk.move(connection, connection, _FOUND, "found", _FOUND_COLUMNS)
    else:
        bulk.with_room(reading)
        # A standby has no temporary tables.
        within = ", ".join(f"{name} AS MATERIALIZED ({step})" for name, step in steps.items())
        bulk.move(reading, connection, f"WITH {within} {_FOUND}", "found", _FOUND_COLUMNS)


def _keep(connection: Connection, steps: Mapping[str, str]) -> None:
    """Each step as a temporary table, of which the planner knows the size."""
    run = raw(connection).execute
    for name, step in steps.items():
        run(f"DROP TABLE IF EXISTS {name}; CREATE TEMP TABLE {name} ON COMMIT DROP AS {step}")
        run(f"ANALYZE {name}")


def find_absent(
    connection: Connection, reading: Connection, source_id: int, covered: Selection, now: datetime
) -> None:
    """Add the devices that a source should know and does not."""
    known = select(roster_devices.c.device_id).where(
        roster_devices.c.source_id == source_id, roster_devices.c.device_id == devices.c.id
    )
    key = func.concat(f"absent/{source_id}/", devices.c.id)
    query = select(key, literal("absent"), literal(source_id), devices.c.id).where(
        matching(covered, now), devices.c.stage != "retired", ~known.exists()
    )
    bulk.move(reading, connection, written(query), "found", _FOUND_COLUMNS[:4])


def doubtful(
    connection: Connection, reading: Connection, source_id: int
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """`key, value` of lines nobody knows, and `device_id, value` of devices that the source does
    not know: the serial numbers between which near misses are looked for.
    """
    unknown = bulk.read_frame(
        connection,
        "SELECT f.roster_key, r.serial FROM found f JOIN roster_devices r ON r.source_id ="
        " f.source_id AND r.key = f.roster_key WHERE f.kind = 'unknown' AND f.source_id = %s"
        " AND r.serial IS NOT NULL",
        {"key": pl.String, "value": pl.String},
        [source_id],
    )
    if unknown.height == 0:
        return unknown, pl.DataFrame(schema={"device_id": pl.Int64, "value": pl.String})
    missing = bulk.read_frame(
        reading,
        "SELECT i.device_id, i.value FROM identifiers i JOIN devices d ON d.id = i.device_id"
        " AND d.stage <> 'retired' WHERE i.kind = 'serial' AND NOT EXISTS (SELECT FROM"
        " roster_devices r WHERE r.device_id = i.device_id AND r.source_id = %s)",
        {"device_id": pl.Int64, "value": pl.String},
        [source_id],
    )
    return unknown, missing


def note_near(connection: Connection, source_id: int, near: pl.DataFrame) -> None:
    """Note which devices the lines that nobody knows may be: `key, device_id, percent`."""
    if near.height == 0:
        return
    columns = 'key text COLLATE "C", device_id bigint, percent int'
    bulk.temporary(connection, "near", columns, near)
    raw(connection).execute(
        "UPDATE found f SET near_id = n.device_id, near_percent = n.percent FROM near n"
        " WHERE f.kind = 'unknown' AND f.source_id = %s AND f.roster_key = n.key",
        [source_id],
    )


def close(connection: Connection, ids: Sequence[int], now: datetime) -> None:
    """Close disagreements that were mended."""
    decide(connection, ids, {"state": GapState.CLOSED, "closed_at": now})


_SETTLED = "('accepted', 'ignored', 'done')"


def settle(connection: Connection, now: datetime) -> dict[str, int]:
    """Bring the kept disagreements to those that were found: new ones open, those that are gone are
    closed, and what was said to be done but is still there after another run is open again.
    """
    run = raw(connection).execute
    run("ANALYZE found")
    values = {"now": now, "today": now.date()}
    closed = run(
        "UPDATE discrepancies x SET state = 'closed', closed_at = %(now)s WHERE x.state <> 'closed'"
        " AND NOT EXISTS (SELECT FROM found f WHERE f.key = x.key)",
        values,
    ).rowcount
    again = run(
        f"""
        UPDATE discrepancies x SET kind = f.kind, device_id = f.device_id,
            roster_key = f.roster_key, ours = f.ours, theirs = f.theirs, near_id = f.near_id,
            near_percent = f.near_percent, seen_at = %(now)s, closed_at = NULL,
            first_at = CASE WHEN x.state = 'closed' THEN %(now)s ELSE x.first_at END,
            state = CASE
                -- What was accepted is accepted as it was then: another value is another matter.
                WHEN x.state IN ('accepted', 'ignored') AND (x.ours, x.theirs) IS DISTINCT FROM
                    (f.ours, f.theirs) THEN 'open'
                WHEN x.state = 'ignored' AND x.until_on <= %(today)s THEN 'open'
                WHEN x.state = 'done' AND s.good_at > x.done_at THEN 'open'
                WHEN x.state IN {_SETTLED} THEN x.state ELSE 'open' END
        FROM found f JOIN sources s ON s.id = f.source_id
        WHERE f.key = x.key AND (
            (x.device_id, x.roster_key, x.ours, x.theirs, x.near_id, x.near_percent)
                IS DISTINCT FROM (f.device_id, f.roster_key, f.ours, f.theirs, f.near_id,
                f.near_percent)
            OR x.state = 'closed' OR (x.state = 'ignored' AND x.until_on <= %(today)s)
            OR (x.state = 'done' AND s.good_at > x.done_at))
        """,  # noqa: S608
        values,
    ).rowcount
    new = run(
        """
        INSERT INTO discrepancies (key, kind, source_id, device_id, roster_key, field, ours, theirs,
            label, near_id, near_percent, first_at, seen_at)
        SELECT f.key, f.kind, f.source_id, f.device_id, f.roster_key, f.field, f.ours, f.theirs,
            coalesce(d.name, (SELECT min(i.value) FROM identifiers i WHERE i.device_id = d.id
                AND i.kind = 'serial'), r.serial, r.imei, r.name, f.roster_key,
                'device ' || f.device_id),
            f.near_id, f.near_percent, %(now)s, %(now)s
        FROM found f LEFT JOIN devices d ON d.id = f.device_id
        LEFT JOIN roster_devices r ON r.source_id = f.source_id AND r.key = f.roster_key
        LEFT JOIN discrepancies x ON x.key = f.key WHERE x.key IS NULL
        ORDER BY f.key
        """,
        values,
    ).rowcount
    return {"closed": closed, "moved": again, "new": new}


# ---- patterns of presence

_BOUGHT = (
    "(d.lot_id IS NOT NULL AND NOT EXISTS (SELECT FROM news n WHERE n.lot_id = d.lot_id))"
    " OR EXISTS (SELECT FROM orders o WHERE lower(o.name) = lower(d.order_name))"
)
_MANAGED = "d.enrolled_at IS NOT NULL AND d.stage IN ('parked', 'active', 'dormant')"
BOUGHT, MANAGED = 1, 2
#: What a line is known by where no device is.
_IDENTITY = (
    "coalesce('s' || r.serial || '/' || coalesce(lower(r.maker), ''), 'i' || r.imei,"
    " 'u' || r.uuid, 'm' || r.mac, 'k' || r.source_id || '/' || r.key)"
)


def _bit(source_ids: Sequence[int]) -> str:
    """The bit of a line's source, by the places of the sources."""
    bits = " ".join(
        f"WHEN {int(source_id)} THEN {4 << place}" for place, source_id in enumerate(source_ids)
    )
    return f"CASE r.source_id {bits} ELSE 0 END" if bits else "0"


def _known(source_ids: Sequence[int]) -> str:
    return (
        f"SELECT r.device_id, bit_or({_bit(source_ids)}) AS bits, count(*) AS lines"  # noqa: S608
        " FROM roster_devices r WHERE r.device_id IS NOT NULL GROUP BY r.device_id"
    )


#: The lines that are no device.
_NAMELESS = "roster_devices r LEFT JOIN devices d ON d.id = r.device_id WHERE d.id IS NULL"
#: The same of a comparison, by what it found.
_FOUND_NAMELESS = """roster_devices r JOIN odd o ON o.source_id = r.source_id AND o.key = r.key
    WHERE o.device_id IS NULL"""


def _masks(source_ids: Sequence[int], known: str, nameless: str) -> str:
    """Each device with its pattern of presence; `known` is a table or query as `_known` has it."""
    return f"""
        WITH news AS MATERIALIZED (SELECT lot_id FROM source_runs WHERE lot_id IS NOT NULL)
        SELECT d.id, NULL::text AS identity, (CASE WHEN {_BOUGHT} THEN {BOUGHT} ELSE 0 END)
            + (CASE WHEN {_MANAGED} THEN {MANAGED} ELSE 0 END) + coalesce(k.bits, 0) AS mask
        FROM devices d LEFT JOIN {known} k ON k.device_id = d.id
        WHERE d.stage <> 'retired' OR k.bits > 0
        UNION ALL
        SELECT NULL, {_IDENTITY}, bit_or({_bit(source_ids)}) FROM {nameless} GROUP BY {_IDENTITY}
    """  # noqa: S608 - numbers and texts of this file


def patterns(connection: Connection, source_ids: Sequence[int], *, is_kept: bool) -> dict[int, int]:
    """Which systems know how many of the same devices: mask → devices. Bits: bought, managed, then
    the sources in their order. `is_kept`: whether `find` kept its steps on this connection.
    """
    masks = (
        _masks(source_ids, "known", _FOUND_NAMELESS)
        if is_kept
        else _masks(source_ids, f"({_known(source_ids)})", _NAMELESS)
    )
    found = raw(connection).execute(
        f"SELECT mask, count(*) FROM ({masks}) AS m GROUP BY mask"  # noqa: S608
    )
    return dict(cast("list[tuple[int, int]]", found.fetchall()))


@dataclass(frozen=True, slots=True)
class PresentRow:
    """One device of a pattern; without a number here it is known by what a source says."""

    device_id: int | None
    identity: str | None
    name: str | None
    serial: str | None
    model: str | None
    stage: str | None
    ownership: str | None
    site: str | None


def present(
    connection: Connection, source_ids: Sequence[int], mask: int, after: str | None, limit: int
) -> list[PresentRow]:
    """The devices of a pattern, in one order; `after` is the last line's mark."""
    kind, _, mark = (after or "").partition(":")
    masks = _masks(source_ids, f"({_known(source_ids)})", _NAMELESS)
    found = raw(connection).execute(
        f"""
        SELECT m.id, m.identity, d.name, coalesce((SELECT min(i.value) FROM identifiers i
                WHERE i.device_id = d.id AND i.kind = 'serial'), split_part(substr(m.identity, 2),
                '/', 1)), d.model, d.stage, d.ownership, d.site
        FROM ({masks}) AS m LEFT JOIN devices d ON d.id = m.id
        WHERE m.mask = %(mask)s AND (%(kind)s = '' OR (%(kind)s = 'd' AND (m.id > %(number)s
            OR m.id IS NULL)) OR (%(kind)s = 'u' AND m.identity COLLATE "C" > %(text)s))
        ORDER BY m.id NULLS LAST, m.identity COLLATE "C" LIMIT %(limit)s
        """,  # noqa: S608
        {
            "mask": mask,
            "kind": kind,
            "number": int(mark) if kind == "d" else 0,
            "text": mark,
            "limit": limit,
        },
    )
    return [PresentRow(*cast("tuple[Any, ...]", row)) for row in found.fetchall()]


# ---- what is kept


def tallies(connection: Connection) -> dict[int, tuple[int, int]]:
    """Source → how many lines its roster has, and how many of them are no device here."""
    query = select(
        roster_devices.c.source_id,
        func.count(),
        func.count().filter(roster_devices.c.device_id.is_(None)),
    ).group_by(roster_devices.c.source_id)
    return {row[0]: (row[1], row[2]) for row in connection.execute(query)}


def marks(connection: Connection) -> tuple[int, int]:
    """The last journal entry and the last run that ended: while they stay, so does the
    comparison.
    """
    query = select(
        select(func.coalesce(func.max(journal.c.id), 0)).scalar_subquery(),
        select(func.coalesce(func.max(source_runs.c.id), 0))
        .where(source_runs.c.ended_at.is_not(None))
        .scalar_subquery(),
    )
    row = connection.execute(query).one()
    return row[0], row[1]


def put(connection: Connection, now: datetime, entry: int, run: int, document: Any) -> None:
    """Keep the comparison's overview."""
    kept = upsert(levels).values(id=1, at=now, entry_id=entry, run_id=run, document=document)
    connection.execute(
        kept.on_conflict_do_update(
            index_elements=[levels.c.id],
            set_={name: kept.excluded[name] for name in ("at", "entry_id", "run_id", "document")},
        )
    )


@dataclass(frozen=True, slots=True)
class OverviewRow:
    """The comparison as it was last made."""

    at: datetime
    entry_id: int
    run_id: int
    document: dict[str, Any]


def overview(connection: Connection) -> OverviewRow | None:
    """The comparison as it was last made."""
    return read_one(connection, select(levels), OverviewRow)


def write_day(connection: Connection, day: date) -> None:
    """Keep today's numbers of open disagreements."""
    counted = dict(
        cast(
            "list[tuple[str, int]]",
            connection.execute(
                select(discrepancies.c.kind, func.count())
                .where(discrepancies.c.state == GapState.OPEN)
                .group_by(discrepancies.c.kind)
            ).all(),
        )
    )
    lines = [{"on_day": day, "kind": kind.value, "open": counted.get(kind, 0)} for kind in Gap]
    kept = upsert(level_days).values(lines)
    connection.execute(
        kept.on_conflict_do_update(
            index_elements=[level_days.c.on_day, level_days.c.kind],
            set_={"open": kept.excluded.open},
        )
    )


@dataclass(frozen=True, slots=True)
class DayRow:
    """How many disagreements of a kind stood open at the end of a day."""

    on_day: date
    kind: Gap
    open: int


def trend(connection: Connection, since: date) -> list[DayRow]:
    """The numbers day by day."""
    query = select(level_days).where(level_days.c.on_day >= since)
    return read_all(connection, query.order_by(level_days.c.on_day, level_days.c.kind), DayRow)


@dataclass(frozen=True, slots=True)
class GapRow:
    """One disagreement with what is known of the device here and there."""

    id: int
    key: str
    kind: Gap
    source_id: int
    device_id: int | None
    roster_key: str | None
    field: str | None
    ours: str | None
    theirs: str | None
    label: str
    near_id: int | None
    near_percent: int | None
    state: GapState
    until_on: date | None
    owner: str | None
    note: str | None
    first_at: datetime
    seen_at: datetime
    closed_at: datetime | None
    done_at: datetime | None
    done_by: str | None
    device_name: str | None
    ownership: str | None
    stage: str | None
    serial: str | None
    their_serial: str | None
    their_model: str | None
    near_name: str | None
    near_serial: str | None
    near_ownership: str | None
    near_maker: str | None


_NEAR = devices.alias("near")


def _serial(device: ColumnElement[int]) -> Any:
    return (
        select(func.min(identifiers.c.value))
        .where(identifiers.c.device_id == device, identifiers.c.kind == "serial")
        .scalar_subquery()
    )


def _gaps() -> Select[Any]:
    return (
        select(
            discrepancies,
            devices.c.name.label("device_name"),
            devices.c.ownership,
            devices.c.stage,
            _serial(discrepancies.c.device_id).label("serial"),
            roster_devices.c.serial.label("their_serial"),
            roster_devices.c.model.label("their_model"),
            _NEAR.c.name.label("near_name"),
            _serial(discrepancies.c.near_id).label("near_serial"),
            _NEAR.c.ownership.label("near_ownership"),
            _NEAR.c.maker.label("near_maker"),
        )
        .outerjoin(devices, devices.c.id == discrepancies.c.device_id)
        .outerjoin(
            roster_devices,
            (roster_devices.c.source_id == discrepancies.c.source_id)
            & (roster_devices.c.key == discrepancies.c.roster_key),
        )
        .outerjoin(_NEAR, _NEAR.c.id == discrepancies.c.near_id)
    )


@dataclass(frozen=True, slots=True)
class Chosen:
    """Which disagreements are meant."""

    ids: tuple[int, ...] = ()
    kind: Gap | None = None
    source_id: int | None = None
    state: GapState | None = None
    owner: str | None = None
    device_id: int | None = None
    near_only: bool = False
    #: Closed ones, too.
    any_state: bool = False


def _matching(chosen: Chosen) -> ColumnElement[bool]:
    parts: list[ColumnElement[bool]] = [true()]
    if chosen.ids:
        parts.append(among(discrepancies.c.id, chosen.ids))
    if chosen.kind is not None:
        parts.append(discrepancies.c.kind == chosen.kind)
    if chosen.source_id is not None:
        parts.append(discrepancies.c.source_id == chosen.source_id)
    if chosen.owner is not None:
        parts.append(func.lower(discrepancies.c.owner) == chosen.owner.lower())
    if chosen.device_id is not None:
        parts.append(
            or_(
                discrepancies.c.device_id == chosen.device_id,
                discrepancies.c.near_id == chosen.device_id,
            )
        )
    if chosen.near_only:
        parts.append(discrepancies.c.near_id.is_not(None))
    state = discrepancies.c.state
    if chosen.state is not None:
        parts.append(state == chosen.state)
    elif not chosen.any_state:
        parts.append(state != GapState.CLOSED)
    return and_(*parts)


def page(connection: Connection, chosen: Chosen, after: int | None, limit: int) -> Sequence[GapRow]:
    """Disagreements, oldest first."""
    query = _gaps().where(_matching(chosen)).order_by(discrepancies.c.id).limit(limit)
    if after is not None:
        query = query.where(discrepancies.c.id > after)
    return read_all(connection, query, GapRow)


def one(connection: Connection, gap_id: int) -> GapRow | None:
    """One disagreement, closed or not."""
    return read_one(connection, _gaps().where(discrepancies.c.id == gap_id), GapRow)


def hold_gaps(connection: Connection, chosen: Chosen) -> None:
    """Hold the chosen ones, in one order for all."""
    query = select(discrepancies.c.id).where(_matching(chosen)).order_by(discrepancies.c.id)
    connection.execute(query.with_for_update())


def counts(connection: Connection) -> list[tuple[int, Gap, GapState, int, datetime]]:
    """`source, kind, state, number, since when` of all that are not closed."""
    query = (
        select(
            discrepancies.c.source_id,
            discrepancies.c.kind,
            discrepancies.c.state,
            func.count(),
            func.min(discrepancies.c.first_at),
        )
        .where(discrepancies.c.state != GapState.CLOSED)
        .group_by(discrepancies.c.source_id, discrepancies.c.kind, discrepancies.c.state)
        .order_by(discrepancies.c.source_id, discrepancies.c.kind, discrepancies.c.state)
    )
    return [
        (row[0], Gap(row[1]), GapState(row[2]), row[3], row[4]) for row in connection.execute(query)
    ]


def decide(connection: Connection, ids: Collection[int], values: Mapping[str, Any]) -> None:
    """Set what was decided about disagreements."""
    connection.execute(update(discrepancies).where(among(discrepancies.c.id, ids)).values(**values))


def restore(connection: Connection, lines: Sequence[Mapping[str, Any]]) -> None:
    """Set disagreements back to what they were decided before."""
    if not lines:
        return
    for name in ("state", "owner", "note", "until_on", "done_at", "done_by"):
        values = {line["id"]: line[name] for line in lines}
        column = discrepancies.c[name]
        connection.execute(
            update(discrepancies)
            .where(among(discrepancies.c.id, values))
            .values({name: case(values, value=discrepancies.c.id, else_=column)})
        )
