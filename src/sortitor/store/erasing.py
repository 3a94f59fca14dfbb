"""Erasing retired devices: everything that is kept of them, in one transaction."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, cast

import polars as pl
from sqlalchemy import (
    Connection,
    and_,
    delete,
    insert,
    not_,
    select,
    update,
)

from sortitor.core.selection import Selection
from sortitor.core.vocabulary import LotStatus, Ownership, Stage
from sortitor.store import devices as store_devices
from sortitor.store.engine import raw
from sortitor.store.filters import held
from sortitor.store.rows import among, number, read_all, read_one
from sortitor.store.tables import (
    devices,
    discrepancies,
    erased_devices,
    erasures,
    hold_devices,
    holds,
    identifiers,
    roster_devices,
)
from sortitor.store.zones import day_of

_DRAFTS = (LotStatus.CHECKING, LotStatus.DRAFT)


@dataclass(frozen=True, slots=True)
class ErasableRow:
    """A device that somebody wants to be erased."""

    id: int
    name: str | None
    stage: Stage
    stage_at: datetime
    platform: str | None
    model: str | None
    site: str | None
    ownership: Ownership
    serial: str | None
    held: bool


@dataclass(frozen=True, slots=True)
class IdentifierRow:
    """An identifier of a device that is to be erased."""

    device_id: int
    kind: str
    value: str


@dataclass(frozen=True, slots=True)
class ErasureRow:
    """An erasure with its certificate."""

    id: int
    at: datetime
    by: str
    devices: int
    entry_id: int
    certificate: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Reach:
    """What is kept of some devices beside themselves."""

    arrivals: int
    entries: int
    files: int
    drafts: int


def selected(
    connection: Connection, selection: Selection, now: datetime, lock: bool = False
) -> list[ErasableRow]:
    """The devices of a selection, by number; `lock` holds them and their identifiers, in the order
    in which an arrival does.
    """
    wanted = store_devices.matching(selection, now)
    if lock:
        theirs = identifiers.c.device_id.in_(select(devices.c.id).where(wanted))
        order = (identifiers.c.value, identifiers.c.kind, identifiers.c.maker)
        connection.execute(
            select(identifiers.c.value).where(theirs).order_by(*order).with_for_update()
        )
        connection.execute(
            select(devices.c.id).where(wanted).order_by(devices.c.id).with_for_update()
        )
    query = select(
        devices.c.id,
        devices.c.name,
        devices.c.stage,
        devices.c.stage_at,
        devices.c.platform,
        devices.c.model,
        devices.c.site,
        devices.c.ownership,
        store_devices.an_identifier("serial"),
        held(now).label("held"),
    )
    return read_all(connection, query.where(wanted).order_by(devices.c.id), ErasableRow)


def due(
    connection: Connection,
    watched: Selection,
    longer: Sequence[Selection],
    days: int,
    today: date,
    now: datetime,
) -> list[int]:
    """Devices that were retired so many days ago, that nobody holds and no other rule counts
    for.
    """
    others = [store_devices.matching(one, now) for one in longer]
    query = select(devices.c.id).where(
        devices.c.stage == Stage.RETIRED,
        today - day_of(devices.c.stage_at) >= days,
        store_devices.matching(watched, now),
        not_(held(now)),
        *(not_(one) for one in others),
    )
    return list(connection.execute(query.order_by(devices.c.id)).scalars())


def identifiers_of(connection: Connection, ids: Sequence[int]) -> list[IdentifierRow]:
    """The identifiers of devices, in order."""
    query = select(identifiers.c.device_id, identifiers.c.kind, identifiers.c.value)
    found = query.where(among(identifiers.c.device_id, ids))
    order = (identifiers.c.device_id, identifiers.c.kind, identifiers.c.value)
    return read_all(connection, found.order_by(*order), IdentifierRow)


_STAGE = """
DROP TABLE IF EXISTS erasing, erasing_words, erasing_arrivals, erasing_lots;
CREATE TEMP TABLE erasing ON COMMIT DROP AS SELECT unnest(%(ids)s::bigint[]) AS device_id;
CREATE TEMP TABLE erasing_words ON COMMIT DROP AS
SELECT DISTINCT upper(word) AS word, is_number, (
    SELECT r[1] FROM regexp_matches(upper(word), '[A-Z0-9]+', 'g') AS r
    ORDER BY length(r[1]) DESC, r[1] LIMIT 1) AS run FROM (
    SELECT i.value AS word, true AS is_number FROM identifiers i JOIN erasing USING (device_id)
    UNION ALL SELECT i.given, true FROM identifiers i JOIN erasing USING (device_id)
    UNION ALL SELECT d.name, false FROM devices d JOIN erasing e ON e.device_id = d.id
    UNION ALL SELECT d.asset_tag, false FROM devices d JOIN erasing e ON e.device_id = d.id
) w WHERE word IS NOT NULL;
ANALYZE erasing_words;
CREATE TEMP TABLE erasing_arrivals ON COMMIT DROP AS
    WITH stated AS MATERIALIZED (
        SELECT id, jsonb_path_query(stated - 'person', 'lax $.*[*]') #>> '{}' AS said FROM arrivals
    )
    SELECT a.id FROM arrivals a JOIN erasing e ON e.device_id = a.device_id
    UNION SELECT s.id FROM stated s JOIN erasing_words w ON w.is_number AND w.word = upper(s.said);
CREATE TEMP TABLE erasing_lots ON COMMIT DROP AS
    SELECT d.lot_id, d.lot_row AS row FROM devices d JOIN erasing e ON e.device_id = d.id
        WHERE d.lot_id IS NOT NULL
    UNION SELECT r.lot_id, r.row FROM lot_rows r JOIN erasing USING (device_id);
ANALYZE erasing; ANALYZE erasing_lots;
"""
_REACH = """
SELECT (SELECT count(*) FROM erasing_arrivals),
    (SELECT count(*) FROM journal_effects e JOIN erasing USING (device_id)),
    (SELECT count(*) FROM lots l WHERE l.id IN (SELECT lot_id FROM erasing_lots)
        AND l.status <> ALL (%(drafts)s) AND octet_length(l.content) > 0),
    (SELECT count(*) FROM lots l WHERE l.id IN (SELECT lot_id FROM erasing_lots)
        AND l.status = ANY (%(drafts)s))
"""


def stage(connection: Connection, ids: Sequence[int]) -> Reach:
    """Gather what is kept of these devices in temporary tables, and count it."""
    with raw(connection).cursor() as cursor:
        for statement in _STAGE.split(";"):
            if statement.strip():
                cursor.execute(
                    statement.encode(), {"ids": list(ids)} if "%(ids)s" in statement else None
                )
        cursor.execute(_REACH, {"drafts": list(_DRAFTS)})
        return Reach(*cast("tuple[int, int, int, int]", cursor.fetchone()))


_ERASE_ARRIVALS = [
    "DELETE FROM way_messages m USING erasing_arrivals e WHERE m.arrival_id = e.id",
    "DELETE FROM sign_in_codes c USING erasing_arrivals e WHERE c.arrival_id = e.id",
    "DELETE FROM acceptances a USING erasing_arrivals e WHERE a.arrival_id = e.id",
    """
    UPDATE arrivals a SET person_id = NULL, trace = '[]', facts = NULL, answers = '{}',
        progress = NULL, secret_hash = NULL, shown_credential = NULL,
        stated = jsonb_strip_nulls(jsonb_build_object('platform', a.stated -> 'platform',
            'os_version', a.stated -> 'os_version')),
        reasons = (SELECT coalesce(jsonb_agg(jsonb_build_object('code', r -> 'code',
            'policy', r -> 'policy', 'actual', '', 'wanted', '', 'explanation', 'Erased.',
            'remedy', '', 'sentence', '')), '[]') FROM jsonb_array_elements(a.reasons) r),
        claim = CASE WHEN a.claim = 'open' THEN 'denied' ELSE a.claim END
    FROM erasing_arrivals e WHERE a.id = e.id
    """,
]
_ERASE_LOTS = [
    "DELETE FROM lot_edits x USING erasing_lots e WHERE x.lot_id = e.lot_id AND x.row = e.row",
    "UPDATE lot_notes n SET given = NULL FROM erasing_lots e WHERE n.lot_id = e.lot_id"
    " AND n.row = e.row",
    "UPDATE lot_rows r SET changes = NULL FROM erasing e WHERE r.device_id = e.device_id",
    "UPDATE lots SET content = '' WHERE id = ANY (%(lots)s)",
]
#: A text is looked through once for however many words: by its runs of letters and digits, of which
#: one must be the longest of a word. Only a word without any is looked for in every text.
_NAMING = """
({key}) IN (
    WITH texts AS MATERIALIZED (SELECT {key}, {text} AS said FROM {table} WHERE {which}),
    runs AS MATERIALIZED (
        SELECT {key}, string_to_table(regexp_replace(said, '[^A-Z0-9]+', ' ', 'g'), ' ') AS run
        FROM texts
    ), perhaps AS MATERIALIZED (
        SELECT DISTINCT {key}, w.word FROM runs JOIN erasing_words w USING (run)
    )
    SELECT {key} FROM perhaps JOIN texts USING ({key}) WHERE strpos(said, word) > 0
    UNION SELECT {key} FROM texts JOIN erasing_words w ON w.run IS NULL AND strpos(said, w.word) > 0
)
"""


def _naming(act: str, table: str, key: str, text: str, which: str = "true") -> str:
    return act + _NAMING.format(table=table, key=key, text=text, which=which)


#: Other texts that may name a device: mails that were written, answers that were kept for a
#: repetition, what failed. A word shorter than this stands in texts about anything.
_ERASE_TEXTS = [
    "DELETE FROM erasing_words WHERE length(word) < 6",
    _naming(
        "UPDATE mails SET subject = 'Erased', body = NULL,"
        " state = CASE state WHEN 'waiting' THEN 'dropped' ELSE state END WHERE",
        "mails",
        "id",
        "upper(concat(subject, ' ', body))",
    ),
    _naming(
        "DELETE FROM idempotency WHERE",
        "idempotency",
        "account_id, key",
        "upper(CASE WHEN headers ->> 'content-type' LIKE '%json%' THEN convert_from(answer, 'UTF8')"
        " ELSE encode(answer, 'escape') END)",
    ),
    _naming(
        "UPDATE jobs SET arguments = '{}', problem = NULL WHERE",
        "jobs",
        "id",
        "upper(concat(arguments, problem))",
        "finished_at IS NOT NULL",
    ),
]


def erase_beside(connection: Connection) -> list[int]:
    """Erase what `stage` gathered from arrivals, lots and other texts; gives the lots whose files
    went. The cells of rows go wherever an applied, discarded or reverted lot has them.
    """
    with raw(connection).cursor() as cursor:
        for statement in _ERASE_ARRIVALS:
            cursor.execute(statement.encode())
        cursor.execute(
            "DELETE FROM erasing_lots WHERE lot_id IN (SELECT id FROM lots WHERE status ="
            " ANY (%s))",
            [list(_DRAFTS)],
        )
        cursor.execute("SELECT DISTINCT lot_id FROM erasing_lots ORDER BY 1")
        lots = [cast("tuple[int]", row)[0] for row in cursor.fetchall()]
        # A shorter one may be a quantity or an order in another's row.
        cursor.execute("SELECT word FROM erasing_words WHERE is_number AND length(word) >= 8")
        words = [cast("tuple[str]", row)[0] for row in cursor.fetchall()]
    for lot_id in lots:
        _blank(connection, lot_id, words)
    with raw(connection).cursor() as cursor:
        for statement in _ERASE_LOTS:
            cursor.execute(statement.encode(), {"lots": lots} if "%(lots)s" in statement else None)
        for statement in _ERASE_TEXTS:
            cursor.execute(statement.encode())
    return lots


def _blank(connection: Connection, lot_id: int, words: Sequence[str]) -> None:
    """Empty the cells of the rows of a lot that are of a device, or that name one."""
    with raw(connection).cursor(binary=True) as cursor:
        cursor.execute("SELECT row FROM erasing_lots WHERE lot_id = %s", [lot_id])
        rows = [cast("tuple[int]", row)[0] for row in cursor.fetchall()]
        cursor.execute(
            "SELECT first_row, numbers, cells FROM lot_blocks WHERE lot_id = %s ORDER BY first_row"
            " FOR UPDATE",
            [lot_id],
        )
        blocks = cast("list[tuple[int, list[int], bytes]]", cursor.fetchall())
        for first, numbers, packed in blocks:
            cells = pl.read_ipc(packed)
            named = [
                pl.col(column).str.strip_chars().str.to_uppercase().is_in(words)
                for column in cells.columns
            ]
            theirs = pl.Series("theirs", numbers, dtype=pl.Int64).is_in(rows)
            gone = theirs | cells.select(pl.any_horizontal(pl.lit(False), *named)).to_series()
            gone = gone.fill_null(theirs)
            if not gone.any():
                continue
            emptied = cells.select(
                pl.when(gone).then(None).otherwise(pl.col(column)).alias(column)
                for column in cells.columns
            )
            buffer = io.BytesIO()
            emptied.write_ipc(buffer, compression="zstd")
            cursor.execute(
                "UPDATE lot_blocks SET cells = %s WHERE lot_id = %s AND first_row = %s",
                [buffer.getvalue(), lot_id, first],
            )


def erase_devices(connection: Connection, ids: Sequence[int]) -> None:
    """The devices themselves, with identifiers, credentials, holds and memberships. What a source
    says stays with the source, and belongs to no device any more.
    """
    connection.execute(delete(discrepancies).where(among(discrepancies.c.device_id, ids)))
    theirs = among(roster_devices.c.device_id, ids)
    connection.execute(update(roster_devices).where(theirs).values(device_id=None))
    named = select(hold_devices.c.hold_id).where(among(hold_devices.c.device_id, ids))
    holding = list(connection.execute(named).scalars())
    retired = and_(among(devices.c.id, ids), devices.c.stage == Stage.RETIRED)
    connection.execute(delete(devices).where(retired))
    # A hold that named nothing else says something of these devices only.
    left = select(hold_devices.c.hold_id)
    connection.execute(delete(holds).where(among(holds.c.id, holding), holds.c.id.not_in(left)))


def erase_from_journal(connection: Connection, ids: Sequence[int], entry_id: int) -> list[int]:
    """Leave of these devices' entries and effects their digests; gives the entries."""
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "SELECT entry_id FROM erase_from_journal(%s, %s) ORDER BY 1", [list(ids), entry_id]
        )
        return [cast("tuple[int]", row)[0] for row in cursor.fetchall()]


_OWN_ENTRIES = """
SELECT j.id, encode(s.digest, 'hex') FROM journal j LEFT JOIN journal_seals s ON s.entry_id = j.id
WHERE j.subject = 'device' AND j.subject_id = ANY (%s) AND j.erased_by IS NULL ORDER BY j.id
"""


def seals_of(connection: Connection, ids: Sequence[int]) -> dict[int, str | None]:
    """The entries on these very devices → the digests of their seals, in hex; None: not sealed."""
    with raw(connection).cursor() as cursor:
        cursor.execute(_OWN_ENTRIES, [list(ids)])
        return dict(cast("list[tuple[int, str | None]]", cursor.fetchall()))


def unsealed_effects(connection: Connection, ids: Sequence[int]) -> int:
    """How many entries that did something to these devices have no seal yet."""
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "SELECT count(*) FROM journal_effects e WHERE e.device_id = ANY (%s) AND NOT EXISTS"
            " (SELECT FROM journal_seals s WHERE s.entry_id = e.entry_id)",
            [list(ids)],
        )
        return cast("tuple[int]", cursor.fetchone())[0]


def add(connection: Connection, values: Mapping[str, Any], ids: Sequence[int]) -> int:
    """A new erasure's id, with the devices that it erased."""
    erasure_id = number(connection, insert(erasures).values(**values).returning(erasures.c.id))
    lines = [{"device_id": one, "erasure_id": erasure_id} for one in ids]
    connection.execute(insert(erased_devices), lines)
    return erasure_id


def change(connection: Connection, erasure_id: int, values: Mapping[str, Any]) -> None:
    """Set an erasure's columns."""
    connection.execute(update(erasures).where(erasures.c.id == erasure_id).values(**values))


def one(connection: Connection, erasure_id: int) -> ErasureRow | None:
    """One erasure."""
    return read_one(connection, select(erasures).where(erasures.c.id == erasure_id), ErasureRow)


def page(connection: Connection, before: int | None, limit: int) -> list[ErasureRow]:
    """Erasures, newest first."""
    query = select(erasures).order_by(erasures.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(erasures.c.id < before)
    return read_all(connection, query, ErasureRow)


def of_device(connection: Connection, device_id: int) -> int | None:
    """The erasure that erased a device, or None."""
    query = select(erased_devices.c.erasure_id).where(erased_devices.c.device_id == device_id)
    found: int | None = connection.execute(query).scalar_one_or_none()
    return found
