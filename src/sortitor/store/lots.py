"""Lots: files, rows, verdicts and notes; what the fleet knows about their identifiers; writing them
into the fleet.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any, Literal, cast

import polars as pl
from sqlalchemy import (
    ColumnElement,
    Connection,
    Integer,
    Select,
    Text,
    func,
    insert,
    literal,
    or_,
    select,
    text,
    true,
    type_coerce,
    update,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.columns import FIELDS
from sortitor.core.lots import Decided, Facts, Prepared
from sortitor.core.vocabulary import IdentifierKind, LotStatus, Stage, Verdict
from sortitor.store import bulk, locks
from sortitor.store.devices import merge_devices, patch_table
from sortitor.store.engine import raw
from sortitor.store.rows import among, in_order, number, read_all, read_one
from sortitor.store.settling import settle, written
from sortitor.store.tables import devices as device_table
from sortitor.store.tables import (
    journal,
    lot_blocks,
    lot_choices,
    lot_edits,
    lot_notes,
    lot_rows,
    lots,
    mappings,
)
from sortitor.store.tables import makers as maker_table
from sortitor.store.tables.devices import folded

_HEAD = [column for column in lots.c if column.name != "content"]
#: What lots can be sorted by; their number is when they were checked, too.
_ORDERS: dict[str, ColumnElement[Any]] = {
    "id": lots.c.id,
    "name": folded(lots.c.name),
    "status": lots.c.status,
    "created_by": folded(lots.c.created_by),
}
_TEXT = pl.String()
_BLOCK_ROWS = 1_000
_LETTERS = {
    Verdict.ADD.value: "a",
    Verdict.CHANGE.value: "c",
    Verdict.UNCHANGED.value: "u",
    Verdict.CONFLICT.value: "x",
    Verdict.REJECT.value: "r",
    Verdict.NO_ROW.value: "n",
}
_VERDICTS = {letter: verdict for verdict, letter in _LETTERS.items()}
_COUNTED = {"preserve_rowcount": True}
#: Given a phase and a total, what is told of rows as they go.
Counting = Callable[[str, int], Callable[[int], None]]


def gather_facts(connection: Connection, prepared: Prepared, lock: bool = False) -> Facts:
    """What the fleet knows about the identifiers and people of a file, by a handful of joins.

    `lock` holds the devices found, so that none moves between the decision and its carrying out.
    """
    bulk.temporary(
        connection,
        "lot_keys",
        "row int, kind text, value text, maker text",
        prepared.keys.select("row", "kind", "value", "maker"),
    )
    execute = raw(connection).execute
    execute("DROP TABLE IF EXISTS lot_matches")
    execute("""
        CREATE TEMP TABLE lot_matches ON COMMIT DROP AS
        SELECT k.row, k.kind, k.value, k.maker, i.device_id, i.maker AS device_maker
        FROM lot_keys k JOIN identifiers i ON i.value = k.value AND i.kind = k.kind
        WHERE k.kind <> 'serial' OR i.maker = k.maker OR k.maker = '' OR i.maker = ''
        """)
    if lock:
        execute(
            "SELECT FROM devices WHERE id IN (SELECT device_id FROM lot_matches) ORDER BY id FOR"
            " UPDATE"
        )
    matches = bulk.read_frame(
        connection,
        "SELECT row::bigint, kind, value, maker, device_id, device_maker FROM lot_matches",
        {
            "row": pl.Int64,
            "kind": _TEXT,
            "value": _TEXT,
            "maker": _TEXT,
            "device_id": pl.Int64,
            "device_maker": _TEXT,
        },
    )
    texts = ", ".join("array_to_string(tags, ';')" if f == "tags" else f"{f}::text" for f in FIELDS)
    found = "FROM devices d WHERE d.id IN (SELECT device_id FROM lot_matches)"
    devices = bulk.read_frame(
        connection,
        "SELECT id, stage, flag IS NOT NULL, ownership_basis, name_basis, array_to_string(manual,"
        f" ';'), person_id, {texts} {found}",
        {
            "device_id": pl.Int64,
            "stage": _TEXT,
            "flagged": pl.Boolean,
            "ownership_basis": _TEXT,
            "name_basis": _TEXT,
            "manual": _TEXT,
            "person_id": pl.Int64,
            **dict.fromkeys(FIELDS, _TEXT),
        },
    )
    owned = bulk.read_frame(
        connection,
        "SELECT device_id, kind, value FROM identifiers WHERE device_id IN (SELECT device_id FROM"
        " lot_matches)",
        {"device_id": pl.Int64, "kind": _TEXT, "value": _TEXT},
    )
    named = prepared.rows["person"].drop_nulls().str.to_lowercase().unique().to_list()
    people = bulk.read_frame(
        connection,
        "SELECT DISTINCT ON (n.label) n.label, id FROM people CROSS JOIN LATERAL (VALUES"
        " (lower(user_name)), (lower(mail))) AS n (label) WHERE n.label = ANY (%s) AND left_at IS"
        " NULL ORDER BY n.label, id",
        {"person": _TEXT, "person_id": pl.Int64},
        [named],
    )
    return Facts(
        matches,
        devices.with_columns(pl.col("tags").replace("", None)),
        owned,
        people,
        _holders(connection, prepared),
        _tag_holders(connection, prepared),
    )


def _holders(connection: Connection, prepared: Prepared) -> pl.DataFrame:
    """Which of the file's names a device has already."""
    schema: dict[str, Any] = {"lower_name": _TEXT, "holder_id": pl.Int64}
    given = prepared.rows["name"].drop_nulls().str.to_lowercase().unique()
    if given.len() == 0:
        return pl.DataFrame(schema=schema)
    bulk.temporary(connection, "lot_names", "lower_name text", given.to_frame("lower_name"))
    return bulk.read_frame(
        connection,
        "SELECT n.lower_name, d.id FROM lot_names n JOIN devices d ON lower(d.name) = n.lower_name"
        " AND d.stage <> 'retired'",
        schema,
    )


def _tag_holders(connection: Connection, prepared: Prepared) -> pl.DataFrame:
    """Which of the file's asset tags a device has already."""
    schema: dict[str, Any] = {"tag": _TEXT, "holder_id": pl.Int64}
    given = prepared.rows["asset_tag"].drop_nulls().str.to_lowercase().unique()
    if given.len() == 0:
        return pl.DataFrame(schema=schema)
    bulk.temporary(connection, "lot_tags", "tag text", given.to_frame("tag"))
    return bulk.read_frame(
        connection,
        "SELECT t.tag, d.id FROM lot_tags t JOIN devices d ON lower(d.asset_tag) = t.tag"
        " AND d.stage <> 'retired'",
        schema,
    )


def makers(connection: Connection) -> tuple[str, ...]:
    """The makers that lots have brought, in the order in which they came."""
    found = select(maker_table.c.name).order_by(maker_table.c.added_at, maker_table.c.name)
    return tuple(connection.execute(found.limit(1_000)).scalars())


def learn_makers(connection: Connection, names: Iterable[str], now: datetime) -> None:
    """Keep the makers of a lot, so that the next file is compared with them."""
    each = [{"name": name, "added_at": now} for name in dict.fromkeys(names)]
    if each:
        connection.execute(upsert(maker_table).on_conflict_do_nothing(), each)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new lot; its rows follow by `write_rows`."""
    return number(connection, insert(lots).values(**values).returning(lots.c.id))


def change(connection: Connection, lot_id: int, values: Mapping[str, Any]) -> None:
    """Set columns of one lot."""
    connection.execute(update(lots).where(lots.c.id == lot_id).values(**values))


@dataclass(frozen=True, slots=True)
class HeadRow:
    """A lot without its content and its rows."""

    id: int
    name: str
    status: LotStatus
    form: Literal["table", "paste"]
    file_name: str | None
    fingerprint: str
    content_bytes: int
    layout: str
    encoding: str
    sheet: str | None
    sheets: list[str]
    header_row: int
    columns_from: str
    checked_at_entry_id: int
    by_hand: bool
    known_only: bool
    columns: dict[str, str]
    headers: list[str]
    reading: dict[str, Any]
    understanding: dict[str, Any]
    defaults: dict[str, str]
    overwrite_manual: bool
    counts: dict[str, int]
    severities: dict[str, int]
    digest: str
    created_by: str
    created_at: datetime
    checked_at: datetime
    applied_at: datetime | None
    reverted_at: datetime | None
    entry_id: int | None


@dataclass(frozen=True, slots=True)
class ListedRow(HeadRow):
    """A lot as a row of a list; `sort_key` is where it stands in its order."""

    sort_key: Any


@dataclass(frozen=True, slots=True)
class NoteGroupRow:
    """So many rows of a lot have a note in a column; one value for an example."""

    code: str
    column: str | None
    rows: int
    given: str | None


def one(connection: Connection, lot_id: int, lock: bool = False) -> HeadRow | None:
    """A lot without its content; `lock` lets two appliers of one draft meet on its row."""
    query = select(*_HEAD).where(lots.c.id == lot_id)
    return read_one(connection, query.with_for_update() if lock else query, HeadRow)


def content(connection: Connection, lot_id: int) -> bytes:
    """The file, byte for byte."""
    with raw(connection).cursor(binary=True) as cursor:
        row = cursor.execute("SELECT content FROM lots WHERE id = %s", [lot_id]).fetchone()
    assert row is not None
    return cast(bytes, row[0])


def same(connection: Connection, fingerprint: str) -> HeadRow | None:
    """The latest lot of the same bytes read in the same way that was not discarded or reverted."""
    alive = lots.c.status.in_([LotStatus.CHECKING, LotStatus.DRAFT, LotStatus.APPLIED])
    query = select(*_HEAD).where(lots.c.fingerprint == fingerprint, alive)
    return read_one(connection, query.order_by(lots.c.id.desc()).limit(1), HeadRow)


def page(
    connection: Connection,
    after: Sequence[Any] | None,
    limit: int,
    status: str | None = None,
    query_text: str | None = None,
    sort: str = "id",
    descending: bool = True,
) -> list[ListedRow]:
    """Lots after the key `(sort value, id)`; `query_text` looks in name, file name, supplier, order
    and who checked it.
    """
    query = in_order(select(*_HEAD), _ORDERS[sort], lots.c.id, after, descending).limit(limit)
    if status:
        query = query.where(lots.c.status == status)
    if query_text:
        places = (
            lots.c.name,
            lots.c.file_name,
            lots.c.created_by,
            lots.c.defaults["supplier"].astext,
            lots.c.defaults["order_name"].astext,
        )
        query = query.where(
            or_(*(place.icontains(query_text, autoescape=True) for place in places))
        )
    return read_all(connection, query, ListedRow)


def write_rows(
    connection: Connection,
    lot_id: int,
    cells: pl.DataFrame,
    decided: Decided,
    tell: Callable[[int], None] | None = None,
) -> None:
    """Keep every row with its verdict, its cells as they were given (a frame in step with the rows)
    and its notes.
    """
    blocks = _blocks(lot_id, decided).with_columns(
        cells=pl.Series(
            [_packed(part, tell) for part in cells.iter_slices(_BLOCK_ROWS)], dtype=pl.String
        )
    )
    bulk.copy_in(connection, "lot_blocks", blocks)
    _write_outcomes(connection, lot_id, decided)


def _blocks(lot_id: int, decided: Decided) -> pl.DataFrame:
    """The rows by blocks of a thousand, without their cells."""
    rows = decided.rows.select(
        "row",
        letter=pl.col("verdict").replace_strict(_LETTERS, return_dtype=pl.String),
        block=pl.int_range(pl.len()) // _BLOCK_ROWS,
    )
    numbers = pl.lit("{") + pl.col("row").cast(pl.String).str.join(",") + pl.lit("}")
    return (
        rows.group_by("block", maintain_order=True)
        .agg(
            lot_id=pl.lit(lot_id),
            first_row=pl.col("row").first(),
            last_row=pl.col("row").last(),
            numbers=numbers,
            verdicts=pl.col("letter").str.join(""),
        )
        .drop("block")
    )


def _packed(part: pl.DataFrame, tell: Callable[[int], None] | None) -> str:
    """The cells of a block as bytes for COPY."""
    buffer = io.BytesIO()
    part.write_ipc(buffer, compression="zstd")
    if tell is not None:
        tell(part.height)
    return "\\x" + buffer.getvalue().hex()


def _write_outcomes(connection: Connection, lot_id: int, decided: Decided) -> None:
    lot = pl.lit(lot_id).alias("lot_id")
    bulk.copy_in(
        connection,
        "lot_rows",
        decided.rows.filter(pl.col("device_id").is_not_null()).select(
            lot, "row", "device_id", "changes"
        ),
    )
    bulk.copy_in(
        connection, "lot_notes", decided.notes.select(lot, "row", "code", "column", "given")
    )


def refresh_rows(connection: Connection, lot_id: int, decided: Decided) -> None:
    """Bring the kept verdicts and notes to a new decision; the original cells stay as they are."""
    bulk.temporary(
        connection,
        "outcome",
        "lot_id bigint, first_row int PRIMARY KEY, verdicts text",
        _blocks(lot_id, decided).select("lot_id", "first_row", "verdicts"),
    )
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "UPDATE lot_blocks b SET verdicts = o.verdicts FROM outcome o WHERE (b.lot_id,"
            " b.first_row) = (o.lot_id, o.first_row) AND b.verdicts <> o.verdicts"
        )
        cursor.execute("DELETE FROM lot_rows WHERE lot_id = %s", [lot_id])
        cursor.execute("DELETE FROM lot_notes WHERE lot_id = %s", [lot_id])
    _write_outcomes(connection, lot_id, decided)


def forget_rows(connection: Connection, lot_id: int) -> None:
    """Take the rows of a draft out before its file is read in another way; edits of its rows mean
    nothing then.
    """
    for table in (lot_blocks, lot_rows, lot_notes, lot_edits, lot_choices):
        connection.execute(table.delete().where(table.c.lot_id == lot_id))


def remove(connection: Connection, lot_id: int) -> None:
    """Forget a lot whose file turned out to be none."""
    connection.execute(lots.delete().where(lots.c.id == lot_id))


def latest_entry(connection: Connection) -> int:
    """The number of the journal's latest entry."""
    return number(connection, select(func.coalesce(func.max(journal.c.id), 0)))


def changed_since(connection: Connection, entry_id: int) -> bool:
    """Whether anything that a lot's verdicts stand on may have changed after an entry."""
    query = (
        select(journal.c.id)
        .where(journal.c.id > entry_id, journal.c.operation.not_in(_ABOUT_NO_DEVICE))
        .limit(1)
    )
    return connection.execute(query).one_or_none() is not None


#: Entries that leave devices and people as they are.
_ABOUT_NO_DEVICE = (
    "lot.check",
    "lot.edit",
    "lot.discard",
    "token.add",
    "token.revoke",
    "account.add",
    "account.edit",
    "pass.add",
    "pass.revoke",
    "gate.apply",
    "naming.apply",
)


def turned_corporate(connection: Connection, lot_id: int) -> int:
    """How many personal devices the draft would make corporate."""
    turned = lot_rows.c.changes["ownership"] == literal(
        {"old": "personal", "new": "corporate"}, JSONB
    )
    return number(connection, select(func.count()).where(lot_rows.c.lot_id == lot_id, turned))


def edits(connection: Connection, lot_id: int) -> pl.DataFrame:
    """`row, header, value`: the cells edited in place."""
    schema = {"row": pl.Int64, "header": pl.String, "value": pl.String}
    return bulk.read_frame(
        connection, "SELECT row, header, value FROM lot_edits WHERE lot_id = %s", schema, [lot_id]
    )


def choices(connection: Connection, lot_id: int) -> pl.DataFrame:
    """`row, remedy`: what was decided about rows in conflict."""
    return bulk.read_frame(
        connection,
        "SELECT row, remedy FROM lot_choices WHERE lot_id = %s",
        {"row": pl.Int64, "remedy": pl.String},
        [lot_id],
    )


@dataclass(frozen=True, slots=True)
class Chosen:
    """Rows of a lot: by number, or all with a note, or all with a verdict."""

    rows: tuple[int, ...] = ()
    note: str | None = None
    verdict: str | None = None

    def condition(self, lot_id: int) -> Select[Any]:
        """Their numbers."""
        each = (
            func.unnest(lot_blocks.c.numbers, func.string_to_array(lot_blocks.c.verdicts, None))
            .table_valued("row", "letter")
            .render_derived()
        )
        query = (
            select(type_coerce(each.c.row, Integer).label("row"))
            .select_from(lot_blocks)
            .join(each, true())
            .where(lot_blocks.c.lot_id == lot_id)
        )
        if self.rows:
            query = query.where(
                each.c.row.in_(self.rows),
                lot_blocks.c.last_row >= min(self.rows),
                lot_blocks.c.first_row <= max(self.rows),
            )
        if self.verdict:
            query = query.where(each.c.letter == _LETTERS[self.verdict])
        if self.note:
            query = query.where(
                each.c.row.in_(
                    select(lot_notes.c.row).where(
                        lot_notes.c.lot_id == lot_id, lot_notes.c.code == self.note
                    )
                )
            )
        return query


def edit(
    connection: Connection, lot_id: int, chosen: Chosen, header: str, value: str | None
) -> int:
    """Set one column of the chosen rows; gives how many."""
    rows = chosen.condition(lot_id).subquery()
    given = select(literal(lot_id), rows.c.row, literal(header), literal(value, Text))
    statement = upsert(lot_edits).from_select(["lot_id", "row", "header", "value"], given)
    return connection.execute(
        statement.on_conflict_do_update(
            index_elements=["lot_id", "row", "header"], set_={"value": value}
        ),
        execution_options=_COUNTED,
    ).rowcount


def choose(connection: Connection, lot_id: int, chosen: Chosen, remedy: str | None) -> int:
    """Set (None: undo) the remedy of the chosen rows; gives how many."""
    rows = chosen.condition(lot_id).subquery()
    if remedy is None:
        return connection.execute(
            lot_choices.delete().where(
                lot_choices.c.lot_id == lot_id, lot_choices.c.row.in_(select(rows.c.row))
            )
        ).rowcount
    statement = upsert(lot_choices).from_select(
        ["lot_id", "row", "remedy"], select(literal(lot_id), rows.c.row, literal(remedy))
    )
    return connection.execute(
        statement.on_conflict_do_update(index_elements=["lot_id", "row"], set_={"remedy": remedy}),
        execution_options=_COUNTED,
    ).rowcount


@dataclass(frozen=True, slots=True)
class Habits:
    """What was learned about a supplier's files: header → column, and their manner as JSON."""

    columns: dict[str, str] = field(default_factory=dict)
    manner: dict[str, Any] = field(default_factory=dict)


def habits(connection: Connection, supplier: str) -> Habits:
    """What was learned about this supplier's files; "" of files without one."""
    query = select(mappings.c.columns, mappings.c.manner)
    return (
        read_one(connection, query.where(mappings.c.supplier == supplier.strip().lower()), Habits)
        or Habits()
    )


def remember(
    connection: Connection,
    supplier: str,
    now: datetime,
    by: str,
    *,
    columns: Mapping[str, str] | None = None,
    manner: Mapping[str, Any] | None = None,
) -> None:
    """Keep corrected columns, or a manner, for the supplier's next file; None stays as it is."""
    values: dict[str, Any] = {"changed_at": now, "changed_by": by}
    known: dict[str, Any] = {"columns": columns, "manner": manner}
    values |= {name: dict(given) for name, given in known.items() if given is not None}
    statement = upsert(mappings).values(
        supplier=supplier.strip().lower(), **{"columns": {}, "manner": {}, **values}
    )
    connection.execute(statement.on_conflict_do_update(index_elements=["supplier"], set_=values))


@dataclass(frozen=True, slots=True)
class LotRow:
    """One row of a lot: cells by header as given, the edited ones over them, and what became
    of it.
    """

    row: int
    verdict: str
    cells: dict[str, str | None]
    device_id: int | None
    changes: dict[str, Any] | None
    notes: list[dict[str, Any]] | None
    edited: dict[str, str | None] | None
    remedy: str | None
    kept: dict[str, str] = field(default_factory=dict)
    device_name: str | None = None


# Every block that is looked into has a row that is sought, so a page opens no more blocks than it
# has rows.
_SOUGHT = """
WITH opened AS (
    SELECT first_row, numbers, verdicts FROM lot_blocks b
    WHERE lot_id = %(lot)s AND last_row > %(after)s
        AND (%(letter)s::text IS NULL OR verdicts LIKE '%%' || %(letter)s || '%%')
    AND (%(code)s::text IS NULL OR EXISTS (
        SELECT FROM lot_notes n WHERE n.lot_id = %(lot)s AND n.code = %(code)s
            AND n.row BETWEEN greatest(b.first_row, %(after)s + 1) AND b.last_row
        AND (%(letter)s::text IS NULL
            OR substr(b.verdicts, array_position(b.numbers, n.row), 1) = %(letter)s)))
    ORDER BY first_row LIMIT %(limit)s + 1
), sought AS (
    SELECT o.first_row, u.row, u.letter
        FROM opened o, unnest(o.numbers, string_to_array(o.verdicts, NULL)) AS u (row, letter)
    WHERE u.row > %(after)s AND (%(letter)s::text IS NULL OR u.letter = %(letter)s)
    AND (%(code)s::text IS NULL
        OR EXISTS (SELECT FROM lot_notes n WHERE n.lot_id = %(lot)s AND n.code = %(code)s
        AND n.row = u.row))
    ORDER BY u.row LIMIT %(limit)s
)
SELECT s.first_row, s.row, s.letter, r.device_id, r.changes,
    (SELECT jsonb_agg(jsonb_build_object('code', n.code, 'column', n.column, 'given', n.given))
        FROM lot_notes n WHERE n.lot_id = %(lot)s AND n.row = s.row),
    (SELECT jsonb_object_agg(e.header, e.value) FROM lot_edits e WHERE e.lot_id = %(lot)s
        AND e.row = s.row), c.remedy
FROM sought s LEFT JOIN lot_rows r ON r.lot_id = %(lot)s AND r.row = s.row LEFT JOIN lot_choices c
    ON c.lot_id = %(lot)s AND c.row = s.row
ORDER BY s.row
"""


def rows(
    connection: Connection,
    lot_id: int,
    verdict: str | None,
    code: str | None,
    after: int,
    limit: int,
) -> list[LotRow]:
    """Rows of a lot after row number `after`, with their notes as `[{code, column, given}]`."""
    letter = _LETTERS[verdict] if verdict else None
    with raw(connection).cursor() as cursor:
        cursor.execute(
            _SOUGHT, {"lot": lot_id, "letter": letter, "code": code, "after": after, "limit": limit}
        )
        found = cast("list[tuple[Any, ...]]", cursor.fetchall())
        cursor.execute(
            "SELECT numbers, cells FROM lot_blocks WHERE lot_id = %s AND first_row = ANY (%s)",
            [lot_id, list({row[0] for row in found})],
        )
        sought = {row[1] for row in found}
        cells: dict[int, dict[str, str | None]] = {}
        for numbers, packed in cast("list[tuple[list[int], bytes]]", cursor.fetchall()):
            wanted = [place for place, number in enumerate(numbers) if number in sought]
            cells |= zip(
                (numbers[place] for place in wanted),
                pl.read_ipc(packed)[wanted].iter_rows(named=True),
                strict=True,
            )
    new = _added(connection, lot_id, sorted(sought))
    lines = []
    for _, row, letter, device_id, *rest in found:
        added, name = new.get(row, (None, None))
        line = LotRow(row, _VERDICTS[letter], cells[row], device_id or added, *rest)
        lines.append(replace(line, device_name=name))
    return lines


def _added(
    connection: Connection, lot_id: int, rows: Sequence[int]
) -> dict[int, tuple[int, str | None]]:
    """Row → number and name of the device that it made; rows of one lot lie together."""
    if not rows:
        return {}
    columns = (device_table.c.lot_row, device_table.c.id, device_table.c.name)
    query = select(*columns).where(
        device_table.c.lot_id == lot_id,
        device_table.c.lot_row.between(rows[0], rows[-1]),
        among(device_table.c.lot_row, rows),
    )
    return {row.lot_row: (row.id, row.name) for row in connection.execute(query)}


def cells(connection: Connection, lot_id: int) -> tuple[pl.Series, pl.DataFrame]:
    """The numbers of all rows and their cells, as they were given."""
    with raw(connection).cursor(binary=True) as cursor:
        cursor.execute(
            "SELECT numbers, cells FROM lot_blocks WHERE lot_id = %s ORDER BY first_row", [lot_id]
        )
        blocks = [
            (pl.Series("row", numbers, dtype=pl.Int64), pl.read_ipc(packed))
            for numbers, packed in cast("Iterator[tuple[list[int], bytes]]", cursor)
        ]
    return pl.concat(numbers for numbers, _ in blocks), pl.concat(
        (part for _, part in blocks), rechunk=True
    )


def note_groups(connection: Connection, lot_id: int) -> list[NoteGroupRow]:
    """How many rows have which notes, most first."""
    query = select(
        lot_notes.c.code,
        lot_notes.c.column,
        func.count().label("rows"),
        func.min(lot_notes.c.given).label("given"),
    )
    grouped = query.where(lot_notes.c.lot_id == lot_id).group_by(
        lot_notes.c.code, lot_notes.c.column
    )
    return read_all(connection, grouped.order_by(text("rows DESC")), NoteGroupRow)


def drafts_of(connection: Connection, creator: str) -> int:
    """How many drafts somebody has."""
    drafts = (lots.c.status == LotStatus.DRAFT, lots.c.created_by == creator)
    return number(connection, select(func.count()).select_from(lots).where(*drafts))


def serialise_appliers(connection: Connection) -> None:
    """Let one lot at a time into the fleet: a second applier waits here and then sees what the
    first one changed.
    """
    # A large lot takes its minutes: whoever waits for it is not told to try again.
    connection.execute(text("SET LOCAL lock_timeout = '30min'"))
    connection.execute(select(func.pg_advisory_xact_lock(locks.LOTS)))
    connection.execute(text("SET LOCAL lock_timeout = '60s'"))


def write_devices(
    connection: Connection,
    lot_id: int,
    entry_id: int,
    decided: Decided,
    now: datetime,
    today: date,
    counting: Counting,
) -> None:
    """Add and change devices as decided; everything by COPY and set-based statements."""
    bulk.with_room(connection)
    _add_devices(connection, lot_id, entry_id, decided, (now, today), counting)
    merge_devices(connection, entry_id, decided.merges, now)
    _change_devices(connection, entry_id, decided, now, counting)
    # Last, since whoever changes a cohort waits for it.
    of_the_lot = select(device_table.c.id).where(device_table.c.lot_id == lot_id)
    settle(connection, written(of_the_lot), None)


def _add_devices(
    connection: Connection,
    lot_id: int,
    entry_id: int,
    decided: Decided,
    moment: tuple[datetime, date],
    counting: Counting,
) -> None:
    new = decided.rows.filter(pl.col("verdict") == Verdict.ADD.value)
    if new.height == 0:
        return
    at, day = (one.isoformat() for one in moment)
    new = new.with_columns(_new_ids(connection, new.height))
    values = new.select(
        "id",
        *[f for f in FIELDS if f not in ("tags", "ownership")],
        "person_id",
        "details",
        ownership=pl.col("ownership").fill_null("unknown"),
        ownership_basis=pl.col("ownership_basis").fill_null("inferred"),
        name_basis=pl.col("name_basis"),
        tags=_array(pl.col("tags")),
        lot_id=pl.lit(lot_id),
        lot_row=pl.col("row"),
        stage=pl.lit(Stage.AWAITED.value),
        stage_at=pl.lit(at),
        created_at=pl.lit(at),
        seen_on=pl.lit(day),
    )
    bulk.copy_in(connection, "devices", values, counting("writing devices", new.height))
    bulk.copy_in(connection, "sightings", new.select(device_id="id"))
    keys = decided.keys.join(new.select("row", device_id="id"), on="row")
    raw(connection).execute("SET LOCAL sortitor.devices_just_written = 'yes'")
    # In the order of the index, so that it grows at its end.
    bulk.copy_in(
        connection,
        "identifiers",
        keys.select("kind", "value", "maker", "device_id", "given").sort("value"),
        counting("writing identifiers", keys.height),
    )
    raw(connection).execute("SET LOCAL sortitor.devices_just_written = 'no'")
    bulk.copy_in(
        connection,
        "journal_creations",
        _spans(new["id"]).with_columns(
            entry_id=pl.lit(entry_id), after=pl.lit('{"stage": "awaited"}')
        ),
    )


def _spans(ids: pl.Series) -> pl.DataFrame:
    """`first_device_id, last_device_id`: the rising numbers as runs without a gap."""
    numbers = ids.to_frame("id").with_columns(run=pl.col("id") - pl.int_range(pl.len()))
    return (
        numbers.group_by("run", maintain_order=True)
        .agg(first_device_id=pl.col("id").min(), last_device_id=pl.col("id").max())
        .drop("run")
    )


def _new_ids(connection: Connection, count: int) -> pl.Series:
    """So many numbers of the devices' sequence; mostly a block, unless somebody else drew one in
    between.
    """
    with raw(connection).cursor() as cursor:
        cursor.execute(
            "SELECT min(id), max(id) FROM (SELECT nextval('devices_id_seq') AS id FROM"
            " generate_series(1, %s)) AS drawn",
            [count],
        )
        low, high = cast(tuple[int, int], cursor.fetchone())
    if high - low == count - 1:
        return pl.int_range(low, high + 1, eager=True).alias("id")
    return bulk.read_frame(
        connection,
        "SELECT nextval('devices_id_seq') FROM generate_series(1, %s)",
        {"id": pl.Int64},
        [count],
    )["id"].sort()


def _array(joined: pl.Expr) -> pl.Expr:
    """`a;b` as a PostgreSQL array literal."""
    quoted = joined.str.replace_all(r'(["\\])', r"\$1").str.replace_all(";", '","', literal=True)
    return (
        pl.when(joined.is_null()).then(pl.lit("{}")).otherwise(pl.lit('{"') + quoted + pl.lit('"}'))
    )


def _change_devices(
    connection: Connection, entry_id: int, decided: Decided, now: datetime, counting: Counting
) -> None:
    changed = decided.rows.filter(pl.col("verdict") == Verdict.CHANGE.value)
    if changed.height == 0:
        return
    counting("changing devices", changed.height)
    bulk.temporary(
        connection,
        "lot_changes",
        "row int, device_id bigint, changes jsonb",
        changed.select("row", "device_id", "changes"),
    )
    new_keys = decided.keys.join(changed.select("row", "device_id"), on="row").select(
        "device_id", "kind", "value", "maker", "given"
    )
    bulk.temporary(
        connection,
        "lot_new_keys",
        "device_id bigint, kind text, value text, maker text, given text",
        new_keys,
    )
    with raw(connection).cursor() as cursor:
        cursor.execute("DROP TABLE IF EXISTS patches")
        cursor.execute(
            """
            CREATE TEMP TABLE patches ON COMMIT DROP AS
            WITH field AS (
                SELECT c.device_id, key, value -> 'new' AS new
                    FROM lot_changes c, jsonb_each(c.changes)
                WHERE key <> ALL (%(kinds)s) AND key <> 'merged_devices'
            ), plain AS (
                SELECT device_id, key, CASE key WHEN 'tags' THEN
                    to_jsonb(string_to_array(new #>> '{}', ';')) ELSE new END AS new FROM field
                UNION ALL SELECT device_id, 'ownership_basis', to_jsonb(%(basis)s::text) FROM field
                    WHERE key = 'ownership'
                UNION ALL SELECT device_id, 'name_basis', to_jsonb('declared'::text) FROM field
                    WHERE key = 'name'
                UNION ALL SELECT device_id, 'stage_at', to_jsonb(%(at)s::timestamptz) FROM field
                    WHERE key = 'stage'
                UNION ALL SELECT k.device_id, 'identifiers',
                    jsonb_agg(jsonb_build_object('kind', k.kind, 'value', k.value, 'maker', k.maker,
                    'given', k.given))
                FROM lot_new_keys k LEFT JOIN identifiers i ON i.device_id = k.device_id
                    AND i.kind = k.kind AND i.value = k.value
                WHERE i.device_id IS NULL GROUP BY k.device_id
            )
            SELECT device_id, jsonb_object_agg(key, new) AS patch FROM plain GROUP BY device_id
            """,
            {
                "kinds": [kind.value for kind in IdentifierKind],
                "basis": next(iter(decided.rows["ownership_basis"].drop_nulls()), "declared"),
                "at": now,
            },
        )
    patch_table(connection, entry_id)
