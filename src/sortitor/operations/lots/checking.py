"""Looking through a file, and settling what it leaves open: columns, defaults, cells, conflicts."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import date
from typing import Any

from sortitor.core import lots as core
from sortitor.core.columns import COLUMNS, remap
from sortitor.core.dates import Order
from sortitor.core.errors import BadInput, Conflict, FieldProblem
from sortitor.core.manifests import (
    Manifest,
    Reading,
    Remark,
    lines_above,
    reading_of,
    remarks_of,
)
from sortitor.core.vocabulary import LotStatus, Remedy
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.files import Form, read_file
from sortitor.operations.lots.strangers import strangers
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
    manner: core.Manner = field(default_factory=core.Manner)


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
                asdict(s.reading),
                s.manner.as_json(),
            ],
            sort_keys=True,
        )
        return hashlib.sha256(hashlib.sha256(self.content).digest() + manner.encode()).hexdigest()


@dataclass(frozen=True, slots=True)
class Checked:
    """A file as it was read and decided."""

    manifest: Manifest
    meaning: dict[str, str]
    prepared: core.Prepared
    decided: core.Decided


def known(connection: Connection, lot_id: int, lock: bool = False) -> HeadRow:
    """One lot without its content. Raises NotFound."""
    return or_not_found(store.one(connection, lot_id, lock), "lot", lot_id)


def check(ctx: Context, given: Given) -> tuple[HeadRow, bool]:
    """Check a file whole and keep it as a draft; `(lot, False)` with the earlier lot if this very
    file was given before.
    """
    core.check_defaults(given.settings.defaults, ctx.now.date())
    with ctx.reading() as connection:
        earlier = store.same(connection, given.fingerprint)
    if earlier is not None:
        return _freshened(ctx, earlier), False
    # Outside any transaction: a stranger's file takes as long as it is allowed to.
    manifest = _read(ctx, given.form, given.content, given.settings.reading)
    with ctx.changing() as connection:
        lot, fresh = begin(ctx, connection, given)
        if fresh:
            look_through(ctx, connection, lot, manifest)
        return known(connection, lot.id), fresh


def _freshened(ctx: Context, lot: HeadRow) -> HeadRow:
    """A draft that was given before, decided on the facts of today."""
    if lot.status != LotStatus.DRAFT:
        return lot
    with ctx.bookkeeping() as connection:
        lot = known(connection, lot.id, lock=True)
        if lot.status == LotStatus.DRAFT and store.changed_since(
            connection, lot.checked_at_entry_id
        ):
            recheck(ctx, connection, lot)
        return known(connection, lot.id)


def finish(ctx: Context, lot_id: int) -> HeadRow:
    """Look through a file that was only kept; one that turns out to be none leaves nothing
    behind.
    """
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        if lot.status != LotStatus.CHECKING:
            return lot
        content = store.content(connection, lot_id)
    manifest = _read(ctx, lot.form, content, reading_of(lot.reading))
    with ctx.changing() as connection:
        lot = known(connection, lot_id, lock=True)
        if lot.status == LotStatus.CHECKING:
            look_through(ctx, connection, lot, manifest)
        return known(connection, lot_id)


def begin(ctx: Context, connection: Connection, given: Given) -> tuple[HeadRow, bool]:
    """Keep a file whose rows are still to be looked through; `(lot, False)` with the earlier lot of
    the same file.
    """
    if earlier := store.same(connection, given.fingerprint):
        return earlier, False
    defaults = core.check_defaults(given.settings.defaults, ctx.now.date())
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
            "reading": {**asdict(reading), "manner": given.settings.manner.as_json()},
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


def look_through(
    ctx: Context, connection: Connection, lot: HeadRow, manifest: Manifest
) -> core.Decided:
    """Check the rows of a lot that was begun, and keep what was found."""
    given = json.loads(lot.columns_from) if lot.columns_from else {}
    learned = store.habits(connection, lot.defaults.get("supplier", ""))
    meaning, origin, remarks = _meaning(manifest, given, learned.columns)
    checked = _decide(ctx, connection, lot, manifest, meaning)
    store.change(
        connection,
        lot.id,
        {
            "status": LotStatus.DRAFT,
            "columns_from": origin,
            **_as_read(checked, remarks),
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
    return checked.decided


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
        lines_above(lot.understanding.get("above", ())),
        remarks_of(lot.understanding.get("file", ())),
    )


def _meaning(
    manifest: Manifest, given: Mapping[str, str], known: Mapping[str, str]
) -> tuple[dict[str, str], str, list[Remark]]:
    """Header → column, and where that was taken from: what was given, what the supplier's last file
    taught, what headers and cells mean.
    """
    if given:
        meaning, remarks = core.meaning_of(manifest, given)
        return meaning, "given", remarks
    meaning, remarks = core.meaning_of(manifest, known=known)
    origin = "remembered" if known.keys() & set(manifest.headers) else "meaning"
    return meaning, origin, remarks


def manner(connection: Connection, lot: HeadRow) -> core.Manner:
    """How the lot is to be read: as was said for it, else for its supplier, else for any file."""
    supplier = lot.defaults.get("supplier", "")
    own = core.manner_of(lot.reading.get("manner", {}), store.makers(connection))
    learned = own.over(core.manner_of(store.habits(connection, supplier).manner))
    return (
        learned.over(core.manner_of(store.habits(connection, "").manner)) if supplier else learned
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
    choices = store.choices(connection, lot.id)
    prepared = core.prepare(
        edited, meaning, lot.defaults, ctx.now.date(), manner(connection, lot), choices
    )
    unheard = strangers(connection, lot.id, prepared.rows, prepared.headers)
    prepared = replace(prepared, remarks=(*prepared.remarks, *unheard))
    facts = store.gather_facts(connection, prepared, lock)
    decided = core.decide(
        prepared, facts, lot.overwrite_manual, choices, lot.by_hand, lot.known_only
    )
    return Checked(manifest, meaning, prepared, decided)


def _as_read(checked: Checked, of_columns: Sequence[Remark]) -> dict[str, Any]:
    m = checked.manifest
    return {
        "layout": m.layout,
        "encoding": m.encoding,
        "sheet": m.sheet,
        "sheets": list(m.sheets),
        "header_row": m.header_row,
        "headers": list(m.headers),
        "understanding": _understanding(checked, of_columns),
        "columns": {
            header: column for header, column in checked.meaning.items() if header in m.headers
        },
    }


def _understanding(checked: Checked, of_columns: Sequence[Remark]) -> dict[str, Any]:
    """How the file was understood, as it is kept on the lot."""
    return {
        "above": checked.manifest.above,
        "file": [asdict(remark) for remark in checked.manifest.remarks],
        "columns": [asdict(remark) for remark in of_columns],
        "cells": [asdict(remark) for remark in checked.prepared.remarks],
        "orders": dict(checked.prepared.orders),
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
    checked = _decide(ctx, connection, lot, _kept(connection, lot), lot.columns, lock)
    decided = checked.decided
    if decided.digest != lot.digest:
        store.refresh_rows(connection, lot.id, decided)
    of_columns = remarks_of(lot.understanding.get("columns", ()))
    store.change(
        connection,
        lot.id,
        {**outcome(ctx, connection, decided), "understanding": _understanding(checked, of_columns)},
    )
    return decided


@dataclass(frozen=True, slots=True)
class Change:
    """How a draft is to be read from now on; what is None stays as it is.

    columns: header → column, None for a plain detail
    reading: what is asked for anew, of `sheet`, `sheets`, `header_row` and `encoding`
    dates:   header → day or month first; None forgets it
    trusted: header → whether its numbers are right as they stand
    makers:  a maker as the file spells it → the one that is meant; None: one of its own
    """

    columns: Mapping[str, str | None] | None = None
    defaults: Mapping[str, str] | None = None
    reading: Mapping[str, Any] | None = None
    dates: Mapping[str, Order | None] | None = None
    trusted: Mapping[str, bool] | None = None
    makers: Mapping[str, str | None] | None = None
    overwrite_manual: bool | None = None
    by_hand: bool | None = None
    add_unknown: bool | None = None
    name: str | None = None


def read_again(ctx: Context, lot_id: int, wanted: Change) -> HeadRow:
    """Read a draft in another way. Another sheet, header line or encoding starts its rows anew.

    Columns, the order of dates, trust and makers are remembered for the supplier's next file.
    """
    fresh = _read_in_another_way(ctx, lot_id, wanted.reading) if wanted.reading else None
    with ctx.changing() as connection:
        lot = draft(connection, lot_id)
        manifest = _kept(connection, lot) if fresh is None else fresh[1]
        defaults = lot.defaults
        if wanted.defaults is not None:
            defaults = core.check_defaults(wanted.defaults, ctx.now.date())
        meaning, remarks = _meaning_again(lot, manifest, wanted, fresh is not None)
        said = _manner_again(lot, manifest, wanted, ctx.now.date())
        kept = lot.reading if fresh is None else fresh[0]
        values = {
            "defaults": defaults,
            "overwrite_manual": _or(wanted.overwrite_manual, lot.overwrite_manual),
            "by_hand": _or(wanted.by_hand, lot.by_hand),
            "known_only": lot.known_only if wanted.add_unknown is None else not wanted.add_unknown,
            "name": wanted.name or lot.name,
            "columns": meaning,
            "columns_from": "given" if wanted.columns is not None else lot.columns_from,
            "reading": {**kept, "manner": said.as_json()},
        }
        store.change(connection, lot_id, values)
        _remember(ctx, connection, defaults, manifest, wanted, meaning, said)
        if fresh is not None:
            store.forget_rows(connection, lot_id)
        checked = _decide(ctx, connection, known(connection, lot_id), manifest, meaning)
        if fresh is not None:
            store.write_rows(connection, lot_id, checked.manifest.cells, checked.decided)
        else:
            store.refresh_rows(connection, lot_id, checked.decided)
        read = {**_as_read(checked, remarks), **outcome(ctx, connection, checked.decided)}
        store.change(connection, lot_id, read)
        return _rechecked(ctx, connection, lot, "settings", checked.decided.counts)


def _or(given: bool | None, kept: bool) -> bool:
    return kept if given is None else given


def _meaning_again(
    lot: HeadRow, manifest: Manifest, wanted: Change, anew: bool
) -> tuple[dict[str, str], Sequence[Remark]]:
    remarks = remarks_of(lot.understanding.get("columns", ()))
    if anew:
        meaning, found = core.meaning_of(manifest)
        return (
            remap(manifest.headers, wanted.columns, meaning) if wanted.columns else meaning,
            found,
        )
    if wanted.columns is None:
        return lot.columns, remarks
    settled = [remark for remark in remarks if remark.column not in wanted.columns]
    return remap(manifest.headers, wanted.columns, lot.columns), settled


def _manner_again(lot: HeadRow, manifest: Manifest, wanted: Change, today: date) -> core.Manner:
    said = core.manner_of(lot.reading.get("manner", {}))
    for name, given in (("dates", wanted.dates), ("trusted", wanted.trusted)):
        strange = next((header for header in given or {} if header not in manifest.headers), None)
        if strange is not None:
            detail = f"The file has no header {strange!r}; it has {', '.join(manifest.headers)}."
            problem = FieldProblem(f"/{name}/{strange}", "unknown_header", detail)
            raise BadInput("bad_mapping", detail, "Correct the header.", (problem,))
    orders = {**said.dates, **(wanted.dates or {})}
    trusted = {header for header, trust in (wanted.trusted or {}).items() if trust}
    doubted = {header for header, trust in (wanted.trusted or {}).items() if not trust}
    # What is meant becomes the maker of devices: it has to be one.
    makers = {
        core.spelling_key(given): core.check_defaults({"maker": meant}, today).get("maker")
        if meant is not None
        else None
        for given, meant in (wanted.makers or {}).items()
    }
    return core.Manner(
        dates={header: order for header, order in orders.items() if order is not None},
        trusted=(said.trusted - doubted) | trusted,
        spellings={"maker": {**said.spellings.get("maker", {}), **makers}},
    )


def _remember(
    ctx: Context,
    connection: Connection,
    defaults: Mapping[str, str],
    manifest: Manifest,
    wanted: Change,
    meaning: Mapping[str, str],
    said: core.Manner,
) -> None:
    supplier = defaults.get("supplier", "")
    if wanted.columns is not None and supplier:
        columns = {header: meaning.get(header, "") for header in manifest.headers}
        store.remember(connection, supplier, ctx.now, ctx.actor.name, columns=columns)
    if wanted.dates is None and wanted.trusted is None and wanted.makers is None:
        return
    # A maker's name is the same whoever sells the device; columns are the supplier's own.
    known = core.manner_of(store.habits(connection, supplier).manner)
    learned = said.over(known) if supplier else core.Manner(spellings=said.spellings).over(known)
    store.remember(connection, supplier, ctx.now, ctx.actor.name, manner=learned.as_json())


def _read_in_another_way(
    ctx: Context, lot_id: int, wanted: Mapping[str, Any]
) -> tuple[dict[str, Any], Manifest] | None:
    """The file of a draft read by another sheet, header line or encoding, and how; None where it
    was read so.
    """
    with ctx.reading() as connection:
        lot = known(connection, lot_id)
        now = {
            "sheet": lot.sheet,
            "header_row": lot.header_row,
            "encoding": lot.encoding or None,
            "sheets": lot.reading.get("sheets", []),
        }
        if lot.status != LotStatus.DRAFT or all(now[name] == it for name, it in wanted.items()):
            return None
        content = store.content(connection, lot_id)
    kept = {**lot.reading, **wanted}
    if "sheet" in wanted and "sheets" not in wanted:
        kept["sheets"] = []
    if kept.get("sheets") and "header_row" not in wanted:
        kept["header_row"] = None
    return kept, _read(ctx, lot.form, content, reading_of(kept))


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
