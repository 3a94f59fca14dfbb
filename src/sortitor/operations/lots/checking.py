"""Looking through a file, and settling what it leaves open: columns, defaults, cells, conflicts."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sortitor.core import lots as core
from sortitor.core.columns import COLUMNS, recall, remap, understand
from sortitor.core.errors import BadInput, Conflict, FieldProblem
from sortitor.core.manifests import Manifest, Reading
from sortitor.core.vocabulary import LotStatus, Remedy
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.files import Form, read_file
from sortitor.store import lots as store
from sortitor.store.engine import Connection
from sortitor.store.lots import Chosen, HeadRow


@dataclass(frozen=True, slots=True)
class Settings:
    """How a file is to be read. `columns` maps column → header where the headers do not say it."""

    defaults: Mapping[str, str] = field(default_factory=dict)
    columns: Mapping[str, str] = field(default_factory=dict)
    overwrite_manual: bool = False
    by_hand: bool = False
    #: Whether unknown devices are added; None: those of a table are, those of a pasted list or of a
    #: statement by hand are not.
    add_unknown: bool | None = None
    reading: Reading = field(default_factory=Reading)


@dataclass(frozen=True, slots=True)
class Given:
    """A file with how it is to be read."""

    content: bytes
    form: Form
    name: str
    file_name: str | None
    settings: Settings

    @property
    def known_only(self) -> bool:
        """Whether a device that nobody knows is rejected."""
        s = self.settings
        if s.add_unknown is not None:
            return not s.add_unknown
        return s.by_hand or self.form == "paste"

    @property
    def fingerprint(self) -> str:
        """The same bytes read in the same way have the same fingerprint."""
        s = self.settings
        manner = json.dumps(
            [
                self.form,
                dict(s.defaults),
                dict(s.columns),
                s.overwrite_manual,
                s.by_hand,
                self.known_only,
                s.reading.sheet,
                s.reading.header_row,
            ],
            sort_keys=True,
        )
        return hashlib.sha256(hashlib.sha256(self.content).digest() + manner.encode()).hexdigest()


@dataclass(frozen=True, slots=True)
class Checked:
    """A file as it was read and decided."""

    manifest: Manifest
    meaning: dict[str, str]
    decided: core.Decided


def known(connection: Connection, lot_id: int, lock: bool = False) -> HeadRow:
    """One lot without its content. Raises NotFound."""
    return or_not_found(store.one(connection, lot_id, lock), "lot", lot_id)


def check(ctx: Context, given: Given) -> tuple[HeadRow, bool]:
    """Check a file whole and keep it as a draft; `(lot, False)` with the earlier lot if this very
    file was given before.
    """
    core.check_defaults(given.settings.defaults)
    with ctx.reading() as connection:
        if earlier := store.same(connection, given.fingerprint):
            return earlier, False
    # Outside any transaction: a stranger's file takes as long as it is allowed to.
    manifest = _read(ctx, given.form, given.content, given.settings.reading)
    with ctx.changing() as connection:
        lot, fresh = begin(ctx, connection, given)
        return (_look_through(ctx, connection, lot, manifest), True) if fresh else (lot, False)


def finish(ctx: Context, lot_id: int) -> HeadRow:
    """Look through a file that was only kept; one that turns out to be none leaves nothing
    behind.
    """
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        if lot.status != LotStatus.CHECKING:
            return lot
        content = store.content(connection, lot_id)
    manifest = _read(ctx, lot.form, content, Reading(lot.sheet, lot.header_row or None))
    with ctx.changing() as connection:
        lot = known(connection, lot_id, lock=True)
        is_open = lot.status == LotStatus.CHECKING
        return _look_through(ctx, connection, lot, manifest) if is_open else lot


def begin(ctx: Context, connection: Connection, given: Given) -> tuple[HeadRow, bool]:
    """Keep a file whose rows are still to be looked through; `(lot, False)` with the earlier lot of
    the same file.
    """
    if earlier := store.same(connection, given.fingerprint):
        return earlier, False
    defaults = core.check_defaults(given.settings.defaults)
    reading = given.settings.reading
    lot_id = store.add(
        connection,
        {
            "name": given.name,
            "status": LotStatus.CHECKING,
            "form": given.form,
            "file_name": given.file_name,
            "content": given.content,
            "fingerprint": given.fingerprint,
            "content_bytes": len(given.content),
            "layout": "",
            "columns": {},
            "headers": [],
            "defaults": defaults,
            "overwrite_manual": given.settings.overwrite_manual,
            "by_hand": given.settings.by_hand,
            "known_only": given.known_only,
            "sheet": reading.sheet,
            "header_row": reading.header_row or 0,
            "counts": {},
            "severities": {},
            "digest": "",
            # What was asked for, until the file has been looked through.
            "columns_from": (
                json.dumps(dict(given.settings.columns)) if given.settings.columns else ""
            ),
            "created_by": ctx.actor.name,
            "created_at": ctx.now,
            "checked_at": ctx.now,
        },
    )
    return known(connection, lot_id), True


def _look_through(
    ctx: Context, connection: Connection, lot: HeadRow, manifest: Manifest
) -> HeadRow:
    given = json.loads(lot.columns_from) if lot.columns_from else {}
    meaning, origin = _meaning(connection, manifest, given, lot.defaults.get("supplier"))
    checked = _decide(ctx, connection, lot, manifest, meaning)
    store.change(
        connection,
        lot.id,
        {
            "status": LotStatus.DRAFT,
            "columns_from": origin,
            **_as_read(checked),
            **outcome(ctx, connection, checked.decided),
        },
    )
    store.write_rows(
        connection,
        lot.id,
        checked.manifest.cells,
        checked.decided,
        ctx.counting("keeping the rows", checked.decided.rows.height),
    )
    counts = checked.decided.counts
    ctx.record(
        connection,
        "lot.check",
        "lot",
        f"Lot “{lot.name}” checked: {words(counts)}",
        subject_id=lot.id,
        after=counts,
    )
    return or_not_found(store.one(connection, lot.id), "lot", lot.id)


def _read(ctx: Context, form: str, content: bytes, reading: Reading) -> Manifest:
    def still_wanted() -> None:
        ctx.check_time()
        ctx.progress("reading the file", 0, 0)

    still_wanted()
    shape: Form = "paste" if form == "paste" else "table"
    return read_file(content, shape, reading, ctx.limits.files, still_wanted)


def _kept(connection: Connection, lot: HeadRow) -> Manifest:
    """What was read of the file when it was checked: quicker than to read it again, and the very
    cells that people have looked at.
    """
    numbers, cells = store.cells(connection, lot.id)
    return Manifest(
        tuple(cells.columns),
        cells,
        numbers,
        lot.layout,
        lot.encoding,
        lot.sheet,
        tuple(lot.sheets),
        lot.header_row,
    )


def _meaning(
    connection: Connection, manifest: Manifest, given: Mapping[str, str], supplier: str | None
) -> tuple[dict[str, str], str]:
    """Header → column, and where that was taken from: what was given, what the supplier's last file
    taught, what the headers mean.
    """
    if given:
        return understand(manifest.headers, given), "given"
    known = store.mapping(connection, supplier) if supplier else {}
    return recall(manifest.headers, known), (
        "remembered" if known.keys() & set(manifest.headers) else "meaning"
    )


def _decide(
    ctx: Context,
    connection: Connection,
    lot: HeadRow,
    manifest: Manifest,
    meaning: dict[str, str],
    lock: bool = False,
) -> Checked:
    ctx.progress("checking the rows", 0, manifest.numbers.len())
    edited, meaning = core.overlaid(manifest, meaning, store.edits(connection, lot.id))
    prepared = core.prepare(edited, meaning, lot.defaults)
    facts = store.gather_facts(connection, prepared, lock)
    return Checked(
        manifest,
        meaning,
        core.decide(
            prepared,
            facts,
            lot.overwrite_manual,
            store.choices(connection, lot.id),
            lot.by_hand,
            lot.known_only,
        ),
    )


def _as_read(checked: Checked) -> dict[str, Any]:
    m = checked.manifest
    return {
        "layout": m.layout,
        "encoding": m.encoding,
        "sheet": m.sheet,
        "sheets": list(m.sheets),
        "header_row": m.header_row,
        "headers": list(m.headers),
        "columns": {
            header: column for header, column in checked.meaning.items() if header in m.headers
        },
    }


def outcome(ctx: Context, connection: Connection, decided: core.Decided) -> dict[str, Any]:
    """What is kept of a decision on the lot itself."""
    return {
        "checked_at_entry_id": store.latest_entry(connection),
        "counts": decided.counts,
        "severities": core.severities(decided.notes),
        "digest": decided.digest,
        "checked_at": ctx.now,
    }


def words(counts: Mapping[str, int]) -> str:
    """The verdicts that occur, in words."""
    return (
        ", ".join(f"{number:,} {verdict}" for verdict, number in counts.items() if number)
        or "nothing"
    )


def draft(connection: Connection, lot_id: int) -> HeadRow:
    """The lot, held, if it is a draft. Raises Conflict otherwise."""
    lot = known(connection, lot_id, lock=True)
    if lot.status != LotStatus.DRAFT:
        raise Conflict(
            "not_a_draft",
            f"Lot {lot_id} is {lot.status}, not a draft.",
            "Import the file again if that is what you want.",
        )
    return lot


def recheck(ctx: Context, connection: Connection, lot: HeadRow, lock: bool = False) -> core.Decided:
    """Decide anew on today's facts; the kept rows follow when the outcome is another."""
    ctx.progress("reading the rows", 0, 0)
    decided = _decide(ctx, connection, lot, _kept(connection, lot), lot.columns, lock).decided
    if decided.digest != lot.digest:
        store.refresh_rows(connection, lot.id, decided)
    store.change(connection, lot.id, outcome(ctx, connection, decided))
    return decided


def read_again(
    ctx: Context,
    lot_id: int,
    *,
    columns: Mapping[str, str | None] | None = None,
    defaults: Mapping[str, str] | None = None,
    reading: Reading | None = None,
    overwrite_manual: bool | None = None,
    by_hand: bool | None = None,
    add_unknown: bool | None = None,
    name: str | None = None,
) -> HeadRow:
    """Read a draft in another way; what is None stays as it is. Another sheet or header line starts
    its rows anew.

    columns: header → column, None for a plain detail. With a supplier as default it is remembered
    for the next file.
    """
    fresh = _read_in_another_way(ctx, lot_id, reading) if reading is not None else None
    anew = fresh is not None
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        checked_defaults = core.check_defaults(defaults) if defaults is not None else lot.defaults
        manifest = _kept(connection, lot) if fresh is None else fresh
        meaning = (
            remap(manifest.headers, columns, lot.columns)
            if columns is not None
            else understand(manifest.headers)
            if anew
            else lot.columns
        )
        values = {
            "defaults": checked_defaults,
            "overwrite_manual": (
                lot.overwrite_manual if overwrite_manual is None else overwrite_manual
            ),
            "by_hand": lot.by_hand if by_hand is None else by_hand,
            "known_only": lot.known_only if add_unknown is None else not add_unknown,
            "name": name or lot.name,
            "columns": meaning,
            "columns_from": "given" if columns is not None else lot.columns_from,
        }
        store.change(connection, lot_id, values)
        if columns is not None and (supplier := checked_defaults.get("supplier")):
            store.remember_mapping(
                connection,
                supplier,
                {header: meaning.get(header, "") for header in manifest.headers},
                ctx.now,
                ctx.actor.name,
            )
        if anew:
            store.forget_rows(connection, lot_id)
        checked = _decide(
            ctx,
            connection,
            known(connection, lot_id),
            manifest,
            meaning,
        )
        if anew:
            store.write_rows(connection, lot_id, checked.manifest.cells, checked.decided)
        else:
            store.refresh_rows(connection, lot_id, checked.decided)
        store.change(
            connection, lot_id, {**_as_read(checked), **outcome(ctx, connection, checked.decided)}
        )
        return _rechecked(ctx, connection, lot, "settings", checked.decided.counts)


def _read_in_another_way(ctx: Context, lot_id: int, reading: Reading) -> Manifest | None:
    """The file of a draft read by another sheet or header line; None where it was read so."""
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        if lot.status != LotStatus.DRAFT or reading == Reading(lot.sheet, lot.header_row):
            return None
        content = store.content(connection, lot_id)
    return _read(ctx, lot.form, content, reading)


def edit(ctx: Context, lot_id: int, chosen: Chosen, column: str, value: str | None) -> HeadRow:
    """Set one cell, or one column of many rows, and check anew.

    `column` is a header of the file, or a column it lacks.
    """
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        header = _header(lot, column)
        if store.edit(connection, lot_id, chosen, header, value) == 0:
            raise BadInput(
                "no_such_rows", "None of these rows is in the lot.", "Read the lot's rows again."
            )
        return _rechecked(
            ctx, connection, lot, f"{header} edited", recheck(ctx, connection, lot).counts
        )


def _header(lot: HeadRow, column: str) -> str:
    if column in lot.headers:
        return column
    if column in COLUMNS:
        return next(
            (header for header, meaning in lot.columns.items() if meaning == column), column
        )
    detail = f"{column!r} is neither a header of the file nor a column that Sortitor knows."
    raise BadInput(
        "unknown_column",
        detail,
        f"Choose one of {', '.join([*lot.headers, *COLUMNS])}.",
        (FieldProblem("/column", "unknown_column", detail),),
    )


def choose(ctx: Context, lot_id: int, chosen: Chosen, remedy: Remedy | None) -> HeadRow:
    """Resolve conflicts: skip, take back, merge; None undoes that.

    What a remedy does not fit stays in conflict.
    """
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        if store.choose(connection, lot_id, chosen, remedy) == 0:
            raise BadInput(
                "no_such_rows", "None of these rows is in the lot.", "Read the lot's rows again."
            )
        return _rechecked(
            ctx,
            connection,
            lot,
            f"rows resolved: {remedy or 'undone'}",
            recheck(ctx, connection, lot).counts,
        )


def _rechecked(
    ctx: Context, connection: Connection, lot: HeadRow, what: str, counts: Mapping[str, int]
) -> HeadRow:
    ctx.record(
        connection,
        "lot.edit",
        "lot",
        f"Lot “{lot.name}”: {what}; {words(counts)}",
        subject_id=lot.id,
        before=lot.counts,
        after=counts,
    )
    return or_not_found(store.one(connection, lot.id), "lot", lot.id)
