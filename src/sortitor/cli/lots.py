"""`sortitor lot`: from a supplier's file to devices, and back."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import click

from sortitor.cli.connection import at_once_option, by_name, with_client
from sortitor.cli.output import (
    ExitCode,
    InFile,
    agree,
    change_options,
    counted,
    form_of,
    heading,
    is_data,
    most_option,
    output_option,
    plain,
    record,
    talk,
    to_option,
    toned,
    write,
    written,
)
from sortitor.cli.progress import watching
from sortitor.client import Sortitor
from sortitor.core.vocabulary import IdentifierKind, LotStatus, Platform, Remedy, Verdict
from sortitor.core.words import JOB_ROWS
from sortitor.schemas.base import Preview
from sortitor.schemas.lots import Lot, LotSettings, NoteGroup, Remark

_IDENTIFIERS = {kind.value for kind in IdentifierKind}
_VERDICTS = click.Choice([verdict.value for verdict in Verdict])
_COLUMNS_FROM = {
    "remembered": ", as corrected for this supplier before",
    "given": ", as given",
}
_TONES = {"add": "good", "conflict": "warn", "reject": "bad", "error": "bad", "warn": "warn"}


def _lots_named(s: Sortitor, text: str) -> Iterable[Lot]:
    return s.lots.list(query=text)


@click.group()
def lot() -> None:
    """Import purchased identifiers: check, look, apply, revert."""


def _pairs(given: tuple[str, ...], option: str) -> dict[str, str]:
    pairs = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals:
            raise click.BadParameter(f"{text!r} is not of the form name=value", param_hint=option)
        pairs[name.strip()] = value.strip()
    return pairs


@lot.command()
@click.argument("file", type=InFile(), required=False)
@click.option(
    "--paste",
    help=(
        "Identifiers instead of a file, separated by blanks, commas or lines; - reads them from"
        " stdin."
    ),
)
@click.option("--name", help="What to call the lot.  [the file's name]")
@click.option(
    "--set",
    "defaults",
    multiple=True,
    metavar="FIELD=VALUE",
    help="A value for blank cells, such as ownership=corporate; repeatable.",
)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="COLUMN=HEADER",
    help="Which header holds what, where the file does not say it.",
)
@click.option(
    "--sheet",
    "sheets",
    multiple=True,
    help="Which sheet of a workbook; repeatable, to take several together.  [the visible one whose"
    " headers mean most]",
)
@click.option(
    "--header-row",
    type=click.IntRange(0),
    help="On which line the headers stand; 0: there are none.  [found by their meaning]",
)
@click.option("--encoding", help="Of a text, such as Windows-1250 or Shift_JIS.  [found]")
@click.option(
    "--dates",
    "dates",
    multiple=True,
    metavar="HEADER=day|month",
    help="Whether the day or the month comes first in a column; repeatable.  [as the column shows]",
)
@click.option(
    "--like",
    type=int,
    help="Take defaults and columns from this lot, such as for its mended rejects.",
)
@click.option(
    "--overwrite-manual", is_flag=True, help="Let the file overwrite values that were set by hand."
)
@click.option(
    "--by-hand",
    is_flag=True,
    help="State the ownership by hand, which a supplier's file cannot change.",
)
@click.option(
    "--add-unknown/--known-only",
    default=None,
    help="Whether devices that nobody knows are added.  [from a file they are; from --paste, and"
    " with --by-hand, they are not]",
)
@at_once_option
@with_client
def check(
    s: Sortitor,
    file: Path | None,
    paste: str | None,
    defaults: tuple[str, ...],
    columns: tuple[str, ...],
    dates: tuple[str, ...],
    **given: Any,
) -> None:
    """Check a file of any format, or pasted identifiers, row by row. Nothing changes until it is
    applied.

    CSV, semicolon, tab or pipe in any usual encoding; XLSX, ODS; JSON: recognised by the content.

    \b
    Examples:
      sortitor lot check scanners.xlsx --set ownership=corporate --set platform=android
      sortitor lot check --paste "490154203237518, KLM-00231" --set maker=Kelmar --add-unknown
    """
    if (file is None) == (paste is None):
        raise click.UsageError("Give either a file or --paste.")
    text = sys.stdin.read() if paste == "-" else paste
    with watching() as watch:
        made = s.lots.check(
            file,
            paste=text,
            defaults=_pairs(defaults, "--set"),
            columns=_pairs(columns, "--column"),
            dates=_pairs(dates, "--dates"),
            watch=watch,
            **given,
        )
    if made.repeated:
        talk(
            f"This very file is lot {made.id} already ({made.status}, {made.created_at:%Y-%m-%d} by"
            f" {made.created_by}); nothing was imported twice."
        )
    _report(s, made)


def _report(s: Sortitor, made: Lot) -> None:
    """Show the lot; exit code 1 where rows need a look."""
    _show(s, made, list(s.lots.notes(made.id)))
    if _bad(made):
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _show(s: Sortitor, made: Lot, groups: list[NoteGroup]) -> None:
    _show_head(made)
    _show_columns(made)
    _show_picture(s, made)
    for remark in made.remarks:
        _show_remark(made.id, remark)
    heading("Rows")
    for verdict, count in made.counts.items():
        plain(
            f"  {count:>9,}  {verdict.replace('_', ' ')}",
            _TONES.get(verdict, "plain") if count else "plain",
        )
    if groups:
        heading("Notes")
    for group in groups:
        _show_group(group)
    if made.status == LotStatus.DRAFT:
        next_one = f"sortitor lot apply {made.id}"
        if _bad(made):
            next_one += (
                f"    or first: sortitor lot rows {made.id} --verdict reject"
                f"    or: sortitor lot takeout {made.id} --to mend.xlsx"
            )
        talk(f"\nNext: {next_one}")
    elif made.status == LotStatus.APPLIED:
        talk(f"\nNext: sortitor device list --lot {made.id}    or: sortitor lot revert {made.id}")


def _bad(made: Lot) -> int:
    return made.counts[Verdict.CONFLICT] + made.counts[Verdict.REJECT]


def _show_head(made: Lot) -> None:
    how = [made.layout]
    if made.encoding:
        how.append(made.encoding)
    if made.sheets_read:
        how.append(f"sheets {', '.join(made.sheets_read)}")
    elif made.sheet:
        how.append(f"sheet {made.sheet!r} of {len(made.sheets)}")
    if made.header_row > 1:
        how.append(f"headers on line {made.header_row}")
    elif made.header_row == 0 and made.layout != "paste":
        how.append("no headers")
    pairs: list[tuple[str, Any]] = [
        ("Lot", f"{made.id}  {made.name}"),
        ("Status", made.status),
        ("File", f"{made.file_name or 'pasted'} ({made.content_bytes:,} bytes, {', '.join(how)})"),
        ("Checked", f"{made.checked_at:%Y-%m-%d %H:%M} for {made.created_by}"),
    ]
    if made.applied_at:
        pairs.append(("Applied", made.applied_at))
    if made.reverted_at:
        pairs.append(("Reverted", made.reverted_at))
    if made.defaults:
        defaults = ", ".join(f"{field}={value}" for field, value in made.defaults.items())
        pairs.append(("Defaults", defaults))
    record(pairs)


def _show_picture(s: Sortitor, made: Lot) -> None:
    """The file as a small picture: its first lines, and those that were left out."""
    lines = [
        (above.line, "headers" if above.line == made.header_row else "left out", above.cells, "")
        for above in made.above[-_LINES_SHOWN:]
    ]
    rows = list(s.lots.rows(made.id, most=_LINES_SHOWN))
    if made.counts.get(Verdict.NO_ROW):
        rows += s.lots.rows(made.id, Verdict.NO_ROW, most=_LINES_SHOWN)
    for row in sorted({row.row: row for row in rows}.values(), key=lambda row: row.row):
        out = row.verdict == Verdict.NO_ROW
        cells = [made_of or "" for made_of in {**row.cells, **row.edited, **row.kept}.values()]
        why = row.notes[0].title if out and row.notes else ""
        lines.append((row.row, "left out" if out else "row", cells, why))
    heading("How the file was understood")
    for line, mark, cells, why in lines:
        words = " | ".join(cells) if mark != "left out" else " ".join(filter(str.strip, cells))
        reason = f"   ({why})" if why else ""
        tone = {"headers": "good", "left out": "warn"}.get(mark, "plain")
        plain(f"  {line:>6}  {mark:<8}  {words[:100] or '(empty)'}{reason}", tone, hang=18)
    if any(mark == "left out" for _, mark, _, _ in lines) and made.status == LotStatus.DRAFT:
        talk(f"  A line that is a row: sortitor lot resolve {made.id} take --row LINE")
        talk(f"  Headers elsewhere: sortitor lot columns {made.id} --header-row LINE")


_LINES_SHOWN = 5


def _show_remark(lot_id: int, remark: Remark) -> None:
    where = f" “{remark.column}”" if remark.column else ""
    given = f" ({remark.given})" if remark.given else ""
    rows = f", {counted(remark.rows, 'row')}" if remark.rows else ""
    plain(f"  •{where} {remark.title}{given}{rows}", _TONES.get(remark.severity, "plain"), hang=4)
    act = _act(lot_id, remark)
    if act:
        plain(f"      {act}", hang=6)


def _act(lot_id: int, remark: Remark) -> str:
    """The command that takes a decision back, or gives the answer that is asked for."""
    column, given = remark.column or "", remark.given or ""
    first = given.partition(" (")[0]
    near, _, known = given.partition(" → ")
    acts = {
        "date_order_open": f'--dates "{column}=day"    or: --dates "{column}=month"',
        "date_by_order": f'--dates "{column}=month"'
        if "day first" in given
        else f'--dates "{column}=day"',
        "maker_near": f'--maker "{near}={known}"    or: --own-maker "{near}"',
        "maker_spelled": f'--own-maker "{near}"',
        "other_sheets": f'--sheet NAME --sheet "{first}"',
        "hidden_sheets": f'--sheet "{first}"',
        "encoding_doubted": "--encoding NAME",
        "column_by_content": f'--detail "{column}"',
        "column_counts": f'"serial={column}"',
        "column_beaten": f'"{given.partition(":")[0]}={column}"',
        "no_headers": "serial=HEADER    or: --header-row LINE",
    }
    act = acts.get(remark.code)
    if act:
        return f"sortitor lot columns {lot_id} {act}"
    if remark.code == "hidden_row":
        return f"sortitor lot resolve {lot_id} skip --note hidden_row"
    return ""


def _show_columns(made: Lot) -> None:
    heading(f"Columns{_COLUMNS_FROM.get(made.columns_from, '')}")
    if not any(column in _IDENTIFIERS for column in made.columns.values()):
        say = f"sortitor lot columns {made.id} serial=HEADER"
        plain(f"  No column holds an identifier. Say which: {say}", "bad")
    for header in made.headers:
        order = made.manner.dates.get(header)
        said = f", {order} first" if order else ""
        trust = ", numbers taken as they stand" if header in made.manner.trusted else ""
        plain(f"  {header} → {made.columns.get(header) or 'kept as detail'}{said}{trust}")


def _show_group(group: NoteGroup) -> None:
    where = f" in “{group.column}”" if group.column else ""
    given = f", such as {group.given!r}" if group.given else ""
    words = f"  {counted(group.rows, 'row')}{where}: {group.title}{given}"
    plain(words, _TONES.get(group.severity, "plain"))
    plain(f"      {group.remedy}   [{group.code}]", hang=6)


@lot.command("list")
@click.option("--status", type=click.Choice([s.value for s in LotStatus]), help="Only these.")
@click.option("--query", "-q", help="In name, file name, supplier, order or who checked it.")
@most_option
@output_option
@with_client
def list_lots(s: Sortitor, status: str | None, query: str | None, most: int, output: str) -> None:
    """List lots, newest first.

    \b
    Example:
      sortitor lot list --status draft
    """
    columns = {
        "Id": lambda x: x.id,
        "Name": lambda x: x.name,
        "Status": lambda x: x.status,
        "Add": lambda x: x.counts["add"],
        "Change": lambda x: x.counts["change"],
        "Same": lambda x: x.counts["unchanged"],
        "Conflict": lambda x: x.counts["conflict"],
        "Reject": lambda x: x.counts["reject"],
        "Checked": lambda x: x.checked_at,
        "By": lambda x: x.created_by,
    }
    write(
        s.lots.list(LotStatus(status) if status else None, query, most + 1),
        output,
        columns,
        hint="Next: sortitor lot show ID",
        empty=("No lot fits." if status or query else "No lots yet. Next: sortitor lot check FILE"),
        most=most,
        first_to_go=["By", "Same", "Checked"],
    )


@lot.command()
@click.argument("lot_id", metavar="LOT")
@output_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def show(s: Sortitor, lot_id: int, output: str) -> None:
    """Show one lot with its columns, verdicts and notes.

    \b
    Example:
      sortitor lot show 12
    """
    found = s.lots.show(lot_id)
    if is_data(found, output):
        return
    _show(s, found, list(s.lots.notes(lot_id)))


@lot.command()
@click.argument("lot_id", metavar="LOT")
@click.option("--verdict", type=_VERDICTS, help="Only rows with this verdict.")
@click.option("--note", help="Only rows with this note code.")
@most_option
@output_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def rows(
    s: Sortitor,
    lot_id: int,
    verdict: str | None,
    note: str | None,
    most: int,
    output: str,
) -> None:
    """List the rows of a lot as they were given, with verdict and notes.

    \b
    Example:
      sortitor lot rows 12 --verdict reject
    """
    columns = {
        "Row": lambda r: r.row,
        "Verdict": lambda r: toned(r.verdict, _TONES.get(r.verdict, "plain")),
        "As given": lambda r: " | ".join(value or "" for value in r.cells.values()),
        "Kept": lambda r: ", ".join(f"{header}: {value}" for header, value in r.kept.items()),
        "Edited": lambda r: ", ".join(f"{h} = {v or 'blank'}" for h, v in r.edited.items()),
        "Device": lambda r: r.device_name or r.device_id,
        "Notes": lambda r: "; ".join(n.title for n in r.notes),
    }
    write(
        s.lots.rows(lot_id, Verdict(verdict) if verdict else None, note, most + 1),
        output,
        columns,
        empty="No such rows.",
        most=most,
        below=["Notes", "Edited", "Kept", "As given"],
    )


@lot.command()
@click.argument("lot_id", metavar="LOT")
@to_option("Where to.")
@with_client
@by_name("lot_id", "lot", _lots_named)
def export(s: Sortitor, lot_id: int, to: Path) -> None:
    """Write the lot's file as it was given, byte for byte.

    \b
    Example:
      sortitor lot export 12 --to original.csv
    """
    content = s.lots.file(lot_id)
    to.write_bytes(content)
    written(to, f" {len(content):,} bytes.")


def _large(preview: Preview) -> bool:
    return sum(count.count for count in preview.counts) > JOB_ROWS


def rows_options(command: Any) -> Any:
    """Which rows: `--row`, `--note`, `--verdict`."""
    command = click.option(
        "--row", "numbers", type=int, multiple=True, help="One row; repeatable."
    )(command)
    command = click.option("--note", help="All rows with this note code.")(command)
    return click.option("--verdict", type=_VERDICTS, help="All rows with this verdict.")(command)


def _chosen(numbers: tuple[int, ...], note: str | None, verdict: str | None) -> dict[str, Any]:
    if not numbers and not note and not verdict:
        raise click.UsageError("Say which rows: --row, --note or --verdict.")
    return {"rows": numbers, "note": note, "verdict": Verdict(verdict) if verdict else None}


@lot.command()
@click.argument("lot_id", metavar="LOT")
@click.argument("column")
@click.argument("value", required=False)
@click.option("--blank", is_flag=True, help="Make the cells blank.")
@rows_options
@at_once_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def edit(
    s: Sortitor, lot_id: int, column: str, value: str | None, blank: bool, **which: Any
) -> None:
    """Set one column of some rows, and check them again. The file as it was given stays.

    \b
    Examples:
      sortitor lot edit 12 maker Kelmar --note ambiguous_serial
      sortitor lot edit 12 "IMEI 1" 490154203237518 --row 7
    """
    if (value is None) != blank:
        raise click.UsageError("Give a value, or --blank.")
    made = s.lots.edit(lot_id, column, value, **_chosen(**which))
    _report(s, made)


@lot.command()
@click.argument("lot_id", metavar="LOT")
@click.argument("remedy", type=click.Choice(["skip", "take", "take-back", "merge", "undo"]))
@rows_options
@at_once_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def resolve(s: Sortitor, lot_id: int, remedy: str, **which: Any) -> None:
    """Decide about rows: skip them, take retired devices back, merge devices into one; or take
    them as they stand, also lines that were taken for no rows.

    \b
    Examples:
      sortitor lot resolve 12 take-back --note retired_device
      sortitor lot resolve 12 take --row 31
    """
    chosen = None if remedy == "undo" else Remedy(remedy.replace("-", "_"))
    made = s.lots.resolve(lot_id, chosen, **_chosen(**which))
    _report(s, made)


@lot.command()
@click.argument("lot_id", metavar="LOT")
@click.argument("pairs", nargs=-1, metavar="COLUMN=HEADER…")
@click.option(
    "--detail",
    "details",
    multiple=True,
    metavar="HEADER",
    help="Keep this header as a plain detail; repeatable.",
)
@click.option(
    "--sheet", "sheets", multiple=True, help="Read another sheet; repeatable, to take several."
)
@click.option(
    "--header-row", type=click.IntRange(0), help="On which line the headers stand; 0: none."
)
@click.option("--encoding", help="Read the text in this encoding, such as Windows-1250.")
@click.option(
    "--dates",
    "dates",
    multiple=True,
    metavar="HEADER=day|month",
    help="Whether the day or the month comes first; repeatable.",
)
@click.option(
    "--trust", "trusted", multiple=True, metavar="HEADER", help="Take its numbers as they stand."
)
@click.option("--doubt", "doubted", multiple=True, metavar="HEADER", help="The opposite.")
@click.option(
    "--maker", "makers", multiple=True, metavar="SPELLING=MAKER", help="One maker, two spellings."
)
@click.option(
    "--own-maker", "own_makers", multiple=True, metavar="SPELLING", help="A maker of its own."
)
@at_once_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def columns(
    s: Sortitor,
    lot_id: int,
    pairs: tuple[str, ...],
    details: tuple[str, ...],
    sheets: tuple[str, ...],
    dates: tuple[str, ...],
    trusted: tuple[str, ...],
    doubted: tuple[str, ...],
    makers: tuple[str, ...],
    own_makers: tuple[str, ...],
    **given: Any,
) -> None:
    """Say how a draft is to be read, and check it again. It is remembered for the lot's supplier;
    what was said of makers, for every file.

    \b
    Examples:
      sortitor lot columns 12 "serial=Box number" --detail Karton
      sortitor lot columns 12 --dates "Bought=day" --maker "Kelmer=Kelmar"
    """
    wanted: dict[str, str | None] = {
        header: column for column, header in _pairs(pairs, "COLUMN=HEADER").items()
    } | dict.fromkeys(details)
    said: dict[str, Any] = {
        "columns": wanted,
        "sheet": sheets[0] if len(sheets) == 1 else None,
        "sheets": list(sheets) if len(sheets) > 1 else None,
        "dates": _pairs(dates, "--dates"),
        "trusted": dict.fromkeys(trusted, True) | dict.fromkeys(doubted, False),
        "makers": {**_pairs(makers, "--maker"), **dict.fromkeys(own_makers)},
        **given,
    }
    settings = LotSettings(**{name: it for name, it in said.items() if it not in (None, {}, [])})
    made = s.lots.read_again(lot_id, settings)
    _report(s, made)


@lot.command()
@click.argument("lot_id", metavar="LOT")
@to_option("Where to; .csv or .xlsx.")
@with_client
@by_name("lot_id", "lot", _lots_named)
def takeout(s: Sortitor, lot_id: int, to: Path) -> None:
    """Take out the rows that stayed behind, with what is the matter, to be mended and checked
    again.

    \b
    Example:
      sortitor lot takeout 12 --to mend.xlsx
    """
    to.write_bytes(s.lots.takeout(lot_id, form_of(to)))
    written(to, f" Next, once it is mended: sortitor lot check {to} --like {lot_id}")


@lot.command()
@click.argument("platform", type=click.Choice([x.value for x in Platform]))
@to_option("Where to; .csv or .xlsx.")
@with_client
def template(s: Sortitor, platform: str, to: Path) -> None:
    """Write an empty file with the headers for a platform's devices, to give to a supplier.

    \b
    Example:
      sortitor lot template android --to android.xlsx
    """
    to.write_bytes(s.lots.template(Platform(platform), form_of(to)))
    written(to, f" Next, once it is filled in: sortitor lot check {to}")


@lot.command()
@click.argument("lot_id", metavar="LOT")
@change_options
@with_client
@by_name("lot_id", "lot", _lots_named)
def apply(s: Sortitor, lot_id: int, yes: bool, reason: str | None) -> None:
    """Take a checked lot into the fleet, in one transaction.

    \b
    Example:
      sortitor lot apply 12 --reason "order WL-2291 delivered"
    """
    preview = s.lots.preview(lot_id)
    agree(preview, yes)
    with watching() as watch:
        done = s.lots.apply(lot_id, preview.digest, reason, watch if _large(preview) else None)
    talk(
        f"Lot {done.id} applied. Next: sortitor device list --lot {done.id}    or: sortitor lot"
        f" revert {done.id}"
    )


@lot.command()
@click.argument("lot_id", metavar="LOT")
@change_options
@with_client
@by_name("lot_id", "lot", _lots_named)
def revert(s: Sortitor, lot_id: int, yes: bool, reason: str | None) -> None:
    """Take an applied lot back; what changed since stays and is named.

    \b
    Example:
      sortitor lot revert 12
    """
    preview = s.lots.preview_revert(lot_id)
    agree(preview, yes)
    with watching() as watch:
        s.lots.revert(lot_id, preview.digest, reason, watch if _large(preview) else None)
    talk(f"Lot {lot_id} reverted.")


@lot.command()
@click.argument("lot_id", metavar="LOT")
@click.option("--reason", help="Why, for the journal.")
@at_once_option
@with_client
@by_name("lot_id", "lot", _lots_named)
def discard(s: Sortitor, lot_id: int, reason: str | None) -> None:
    """Put a draft aside; its rows stay readable.

    \b
    Example:
      sortitor lot discard 12 --reason "wrong supplier"
    """
    s.lots.discard(lot_id, reason)
    talk(f"Lot {lot_id} discarded.")
