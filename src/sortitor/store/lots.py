"""Lots: files, rows, verdicts and notes; what the fleet knows about their identifiers; writing them into the fleet."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, cast

import polars as pl
from sqlalchemy import Connection, Select, Text, func, insert, literal, or_, select, text, update
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.dialects.postgresql import insert as upsert

from sortitor.core.columns import FIELDS
from sortitor.core.lots import Decided, Facts, Prepared
from sortitor.core.vocabulary import IdentifierKind, LotStatus, Stage, Verdict
from sortitor.store import bulk
from sortitor.store.devices import apply_patch_table, merge_devices
from sortitor.store.engine import Line, raw
from sortitor.store.tables import journal, lot_choices, lot_edits, lot_notes, lot_rows, lots, mappings

_HEAD = [column for column in lots.c if column.name != "content"]
_TEXT = pl.String()
_COUNTED = {"preserve_rowcount": True}
#: Given a phase and a total, what is told of rows as they go.
Counting = Callable[[str, int], Callable[[int], None]]


def gather_facts(connection: Connection, prepared: Prepared, lock: bool = False) -> Facts:
    """What the fleet knows about the identifiers and people of a file, by a handful of joins.

    `lock` holds the devices found, so that none moves between the decision and its carrying out.
    """
    bulk.temporary(connection, "lot_keys", "row int, kind text, value text, maker text", prepared.keys.select("row", "kind", "value", "maker"))
    execute = raw(connection).execute
    execute("DROP TABLE IF EXISTS lot_matches")
    execute(
        """
        CREATE TEMP TABLE lot_matches ON COMMIT DROP AS
        SELECT k.row, k.kind, k.value, k.maker, i.device_id, i.maker AS device_maker
        FROM lot_keys k JOIN identifiers i ON i.value = k.value AND i.kind = k.kind
        WHERE k.kind <> 'serial' OR i.maker = k.maker OR k.maker = '' OR i.maker = ''
        """
    )
    if lock:
        execute("SELECT FROM devices WHERE id IN (SELECT device_id FROM lot_matches) ORDER BY id FOR UPDATE")
    matches = bulk.read_frame(connection, "SELECT row::bigint, kind, value, maker, device_id, device_maker FROM lot_matches", {
        "row": pl.Int64, "kind": _TEXT, "value": _TEXT, "maker": _TEXT, "device_id": pl.Int64, "device_maker": _TEXT,
    })  # fmt: skip
    texts = ", ".join("array_to_string(tags, ';')" if f == "tags" else f"{f}::text" for f in FIELDS)
    found = "FROM devices d WHERE d.id IN (SELECT device_id FROM lot_matches)"
    devices = bulk.read_frame(
        connection, f"SELECT id, stage, flag IS NOT NULL, ownership_basis, array_to_string(manual, ';'), person_id, {texts} {found}",
        {"device_id": pl.Int64, "stage": _TEXT, "flagged": pl.Boolean, "ownership_basis": _TEXT, "manual": _TEXT, "person_id": pl.Int64,
         **dict.fromkeys(FIELDS, _TEXT)},
    )  # fmt: skip
    held = bulk.read_frame(
        connection, "SELECT device_id, kind, value FROM identifiers WHERE device_id IN (SELECT device_id FROM lot_matches)",
        {"device_id": pl.Int64, "kind": _TEXT, "value": _TEXT},
    )  # fmt: skip
    named = prepared.rows["person"].drop_nulls().str.to_lowercase().unique().to_list()
    people = bulk.read_frame(
        connection, "SELECT DISTINCT ON (n.label) n.label, id FROM people CROSS JOIN LATERAL (VALUES (lower(user_name)), (lower(mail))) AS n (label)"
        " WHERE n.label = ANY (%s) AND left_at IS NULL ORDER BY n.label, id",
        {"person": _TEXT, "person_id": pl.Int64}, [named],
    )  # fmt: skip
    return Facts(matches, devices.with_columns(pl.col("tags").replace("", None)), held, people)


def add(connection: Connection, values: Mapping[str, Any]) -> int:
    """A new lot; its rows follow by `write_rows`."""
    return connection.execute(insert(lots).values(**values).returning(lots.c.id)).scalar_one()


def change(connection: Connection, lot_id: int, values: Mapping[str, Any]) -> None:
    """Set columns of one lot."""
    connection.execute(update(lots).where(lots.c.id == lot_id).values(**values))


def one(connection: Connection, lot_id: int, lock: bool = False) -> Line | None:
    """A lot without its content; `lock` lets two appliers of one draft meet on its row."""
    query = select(*_HEAD).where(lots.c.id == lot_id)
    return connection.execute(query.with_for_update() if lock else query).one_or_none()


def content(connection: Connection, lot_id: int) -> bytes:
    """The file, byte for byte."""
    return bytes(connection.execute(select(lots.c.content).where(lots.c.id == lot_id)).scalar_one())


def same(connection: Connection, fingerprint: str) -> Line | None:
    """The latest lot of the same bytes read in the same way that was not discarded or reverted."""
    alive = lots.c.status.in_([LotStatus.CHECKING, LotStatus.DRAFT, LotStatus.APPLIED])
    query = select(*_HEAD).where(lots.c.fingerprint == fingerprint, alive)
    return connection.execute(query.order_by(lots.c.id.desc()).limit(1)).one_or_none()


def page(connection: Connection, before: int | None, limit: int, status: str | None = None, query_text: str | None = None) -> Sequence[Line]:
    """Lots, newest first; `query_text` looks in name, file name, supplier, order and who checked it."""
    query = select(*_HEAD).order_by(lots.c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(lots.c.id < before)
    if status:
        query = query.where(lots.c.status == status)
    if query_text:
        places = (lots.c.name, lots.c.file_name, lots.c.created_by, lots.c.defaults["supplier"].astext, lots.c.defaults["order_name"].astext)
        query = query.where(or_(*(place.icontains(query_text, autoescape=True) for place in places)))
    return connection.execute(query).all()


def write_rows(connection: Connection, lot_id: int, decided: Decided, tell: Callable[[int], None] | None = None) -> None:
    """Keep every row with its verdict, its original cells and its notes."""
    lot = pl.lit(lot_id).alias("lot_id")
    bulk.copy_in(connection, "lot_rows", decided.rows.select(lot, "row", "verdict", "cells", "device_id", "changes"), tell)
    bulk.copy_in(connection, "lot_notes", decided.notes.select(lot, "row", "code", "column", "given"))


def refresh_rows(connection: Connection, lot_id: int, decided: Decided) -> None:
    """Bring the kept verdicts and notes to a new decision; the original cells stay as they are."""
    outcome = decided.rows.select("row", "verdict", "device_id", "changes")
    bulk.temporary(connection, "outcome", "row int PRIMARY KEY, verdict text, device_id bigint, changes jsonb", outcome)
    with raw(connection).cursor() as cursor:
        cursor.execute(
            """
            UPDATE lot_rows r SET verdict = o.verdict, device_id = o.device_id, changes = o.changes FROM outcome o
            WHERE r.lot_id = %s AND r.row = o.row AND (r.verdict, r.device_id, r.changes) IS DISTINCT FROM (o.verdict, o.device_id, o.changes)
            """,
            [lot_id],
        )
        cursor.execute("DELETE FROM lot_notes WHERE lot_id = %s", [lot_id])
    bulk.copy_in(connection, "lot_notes", decided.notes.select(pl.lit(lot_id).alias("lot_id"), "row", "code", "column", "given"))


def forget_rows(connection: Connection, lot_id: int) -> None:
    """Take the rows of a draft out before its file is read in another way; edits of its rows mean nothing then."""
    for table in (lot_rows, lot_notes, lot_edits, lot_choices):
        connection.execute(table.delete().where(table.c.lot_id == lot_id))


def remove(connection: Connection, lot_id: int) -> None:
    """Forget a lot whose file turned out to be none."""
    connection.execute(lots.delete().where(lots.c.id == lot_id))


def latest_entry(connection: Connection) -> int:
    """The number of the journal's latest entry."""
    return connection.execute(select(func.coalesce(func.max(journal.c.id), 0))).scalar_one()


def moved_since(connection: Connection, entry_id: int) -> bool:
    """Whether anything that a lot's verdicts stand on may have changed after an entry."""
    query = select(journal.c.id).where(journal.c.id > entry_id, journal.c.operation.not_in(_ABOUT_NO_DEVICE)).limit(1)
    return connection.execute(query).one_or_none() is not None


#: Entries that leave devices and people as they are.
_ABOUT_NO_DEVICE = ("lot.check", "lot.edit", "lot.discard", "token.add", "token.revoke", "account.add", "account.edit", "pass.add", "pass.revoke", "gate.apply", "naming.apply")


def turned_corporate(connection: Connection, lot_id: int) -> int:
    """How many personal devices the draft would make corporate."""
    turned = lot_rows.c.changes["ownership"] == literal({"old": "personal", "new": "corporate"}, JSONB)
    return connection.execute(select(func.count()).where(lot_rows.c.lot_id == lot_id, lot_rows.c.verdict == Verdict.CHANGE, turned)).scalar_one()


def edits(connection: Connection, lot_id: int) -> pl.DataFrame:
    """`row, header, value`: the cells edited in place."""
    schema = {"row": pl.Int64, "header": pl.String, "value": pl.String}
    return bulk.read_frame(connection, "SELECT row, header, value FROM lot_edits WHERE lot_id = %s", schema, [lot_id])


def choices(connection: Connection, lot_id: int) -> pl.DataFrame:
    """`row, remedy`: what was decided about rows in conflict."""
    return bulk.read_frame(connection, "SELECT row, remedy FROM lot_choices WHERE lot_id = %s", {"row": pl.Int64, "remedy": pl.String}, [lot_id])


@dataclass(frozen=True, slots=True)
class Chosen:
    """Rows of a lot: by number, or all with a note, or all with a verdict."""

    rows: tuple[int, ...] = ()
    note: str | None = None
    verdict: str | None = None

    def condition(self, lot_id: int) -> Select[Any]:
        """Their numbers."""
        query = select(lot_rows.c.row).where(lot_rows.c.lot_id == lot_id)
        if self.rows:
            query = query.where(lot_rows.c.row.in_(self.rows))
        if self.verdict:
            query = query.where(lot_rows.c.verdict == self.verdict)
        if self.note:
            query = query.where(lot_rows.c.row.in_(select(lot_notes.c.row).where(lot_notes.c.lot_id == lot_id, lot_notes.c.code == self.note)))
        return query


def edit(connection: Connection, lot_id: int, chosen: Chosen, header: str, value: str | None) -> int:
    """Set one column of the chosen rows; gives how many."""
    rows = chosen.condition(lot_id).subquery()
    given = select(literal(lot_id), rows.c.row, literal(header), literal(value, Text))
    statement = upsert(lot_edits).from_select(["lot_id", "row", "header", "value"], given)
    return connection.execute(statement.on_conflict_do_update(index_elements=["lot_id", "row", "header"], set_={"value": value}), execution_options=_COUNTED).rowcount


def choose(connection: Connection, lot_id: int, chosen: Chosen, remedy: str | None) -> int:
    """Set (None: undo) the remedy of the chosen rows; gives how many."""
    rows = chosen.condition(lot_id).subquery()
    if remedy is None:
        return connection.execute(lot_choices.delete().where(lot_choices.c.lot_id == lot_id, lot_choices.c.row.in_(select(rows.c.row)))).rowcount
    statement = upsert(lot_choices).from_select(["lot_id", "row", "remedy"], select(literal(lot_id), rows.c.row, literal(remedy)))
    return connection.execute(statement.on_conflict_do_update(index_elements=["lot_id", "row"], set_={"remedy": remedy}), execution_options=_COUNTED).rowcount


def mapping(connection: Connection, supplier: str) -> dict[str, str]:
    """Header → column as it was corrected for this supplier before."""
    found = connection.execute(select(mappings.c.columns).where(mappings.c.supplier == supplier.strip().lower())).scalar_one_or_none()
    return dict(found or {})


def remember_mapping(connection: Connection, supplier: str, columns: Mapping[str, str], at: datetime, by: str) -> None:
    """Keep a corrected mapping for the supplier's next file."""
    values = {"columns": dict(columns), "changed_at": at, "changed_by": by}
    statement = upsert(mappings).values(supplier=supplier.strip().lower(), **values)
    connection.execute(statement.on_conflict_do_update(index_elements=["supplier"], set_=values))


def rows(connection: Connection, lot_id: int, verdict: str | None, code: str | None, after: int, limit: int) -> Sequence[Line]:
    """Rows of a lot after row number `after`, with their notes as `[{code, column, given}]`."""
    query = select(lot_rows).where(lot_rows.c.lot_id == lot_id, lot_rows.c.row > after)
    if verdict:
        query = query.where(lot_rows.c.verdict == verdict)
    if code:
        query = query.where(lot_rows.c.row.in_(select(lot_notes.c.row).where(lot_notes.c.lot_id == lot_id, lot_notes.c.code == code)))
    chosen = query.order_by(lot_rows.c.row).limit(limit).subquery()
    note = func.jsonb_build_object("code", lot_notes.c.code, "column", lot_notes.c.column, "given", lot_notes.c.given)
    notes = select(func.jsonb_agg(note)).where(lot_notes.c.lot_id == lot_id, lot_notes.c.row == chosen.c.row).scalar_subquery()
    of_row = (lot_edits.c.lot_id == lot_id, lot_edits.c.row == chosen.c.row)
    edited = select(func.jsonb_object_agg(lot_edits.c.header, lot_edits.c.value)).where(*of_row).scalar_subquery()
    remedy = select(lot_choices.c.remedy).where(lot_choices.c.lot_id == lot_id, lot_choices.c.row == chosen.c.row).scalar_subquery()
    return connection.execute(select(chosen, notes.label("notes"), edited.label("edited"), remedy.label("remedy")).order_by(chosen.c.row)).all()


def note_groups(connection: Connection, lot_id: int) -> Sequence[Line]:
    """`code, column, rows, given`: how many rows have a note, with one example."""
    query = select(lot_notes.c.code, lot_notes.c.column, func.count().label("rows"), func.min(lot_notes.c.given).label("given"))
    return connection.execute(query.where(lot_notes.c.lot_id == lot_id).group_by(lot_notes.c.code, lot_notes.c.column).order_by(text("rows DESC"))).all()


def serialise_appliers(connection: Connection) -> None:
    """Let one lot at a time into the fleet: a second applier waits here and then sees what the first one changed."""
    connection.execute(select(func.pg_advisory_xact_lock(7_301)))


def write_devices(connection: Connection, lot_id: int, entry_id: int, decided: Decided, now: datetime, counting: Counting) -> None:
    """Add and change devices as decided; everything by COPY and set-based statements."""
    bulk.with_room(connection)
    _add_devices(connection, lot_id, entry_id, decided, now, counting)
    merge_devices(connection, entry_id, decided.merges, now)
    _change_devices(connection, entry_id, decided, now, counting)


def _add_devices(connection: Connection, lot_id: int, entry_id: int, decided: Decided, now: datetime, counting: Counting) -> None:
    new = decided.rows.filter(pl.col("verdict") == Verdict.ADD.value)
    if new.height == 0:
        return
    at = now.isoformat()
    new = new.with_columns(_new_ids(connection, new.height))
    values = new.select(
        "id", *[f for f in FIELDS if f not in ("tags", "ownership")], "person_id", "details",
        ownership=pl.col("ownership").fill_null("unknown"), ownership_basis=pl.col("ownership_basis").fill_null("inferred"),
        tags=_array(pl.col("tags")), lot_id=pl.lit(lot_id), lot_row=pl.col("row"),
        stage=pl.lit(Stage.AWAITED.value), stage_at=pl.lit(at), created_at=pl.lit(at),
    )  # fmt: skip
    bulk.copy_in(connection, "devices", values, counting("writing devices", new.height))
    keys = decided.keys.join(new.select("row", device_id="id"), on="row")
    # In the order of the index, so that it grows at its end.
    bulk.copy_in(connection, "identifiers", keys.select("kind", "value", "maker", "device_id", "given").sort("value"), counting("writing identifiers", keys.height))
    bulk.copy_in(connection, "journal_effects", new.select(entry_id=pl.lit(entry_id), device_id="id", after=pl.lit('{"stage": "awaited"}')))


def _new_ids(connection: Connection, count: int) -> pl.Series:
    """So many numbers of the devices' sequence; mostly a block, unless somebody else drew one in between."""
    with raw(connection).cursor() as cursor:
        cursor.execute("CREATE TEMP TABLE IF NOT EXISTS drawn (id bigint) ON COMMIT DROP; TRUNCATE drawn")
        cursor.execute("INSERT INTO drawn SELECT nextval('devices_id_seq') FROM generate_series(1, %s)", [count])
        cursor.execute("SELECT min(id), max(id) FROM drawn")
        low, high = cast(tuple[int, int], cursor.fetchone())
        if high - low == count - 1:
            return pl.int_range(low, high + 1, eager=True).alias("id")
        cursor.execute("SELECT id FROM drawn ORDER BY id")
        return pl.Series("id", [row[0] for row in cursor.fetchall()], dtype=pl.Int64)


def _array(joined: pl.Expr) -> pl.Expr:
    """`a;b` as a PostgreSQL array literal."""
    quoted = joined.str.replace_all(r'(["\\])', r"\$1").str.replace_all(";", '","', literal=True)
    return pl.when(joined.is_null()).then(pl.lit("{}")).otherwise(pl.lit('{"') + quoted + pl.lit('"}'))


def _change_devices(connection: Connection, entry_id: int, decided: Decided, now: datetime, counting: Counting) -> None:
    changed = decided.rows.filter(pl.col("verdict") == Verdict.CHANGE.value)
    if changed.height == 0:
        return
    counting("changing devices", changed.height)
    bulk.temporary(connection, "lot_changes", "row int, device_id bigint, changes jsonb", changed.select("row", "device_id", "changes"))
    new_keys = decided.keys.join(changed.select("row", "device_id"), on="row").select("device_id", "kind", "value", "maker", "given")
    bulk.temporary(connection, "lot_new_keys", "device_id bigint, kind text, value text, maker text, given text", new_keys)
    with raw(connection).cursor() as cursor:
        cursor.execute("DROP TABLE IF EXISTS patches")
        cursor.execute(
            """
            CREATE TEMP TABLE patches ON COMMIT DROP AS
            WITH field AS (
                SELECT c.device_id, key, value -> 'new' AS new FROM lot_changes c, jsonb_each(c.changes)
                WHERE key <> ALL (%(kinds)s) AND key <> 'merged_devices'
            ), plain AS (
                SELECT device_id, key, CASE key WHEN 'tags' THEN to_jsonb(string_to_array(new #>> '{}', ';')) ELSE new END AS new FROM field
                UNION ALL SELECT device_id, 'ownership_basis', to_jsonb(%(basis)s::text) FROM field WHERE key = 'ownership'
                UNION ALL SELECT device_id, 'stage_at', to_jsonb(%(at)s::timestamptz) FROM field WHERE key = 'stage'
                UNION ALL SELECT k.device_id, 'identifiers', jsonb_agg(jsonb_build_object('kind', k.kind, 'value', k.value, 'maker', k.maker, 'given', k.given))
                FROM lot_new_keys k LEFT JOIN identifiers i ON i.device_id = k.device_id AND i.kind = k.kind AND i.value = k.value
                WHERE i.device_id IS NULL GROUP BY k.device_id
            )
            SELECT device_id, jsonb_object_agg(key, new) AS patch FROM plain GROUP BY device_id
            """,
            {"kinds": [kind.value for kind in IdentifierKind], "basis": next(iter(decided.rows["ownership_basis"].drop_nulls()), "declared"), "at": now},
        )
    apply_patch_table(connection, entry_id)
