"""How the command line speaks: tables, records, previews, errors, exit codes.

Data goes to stdout, talk to stderr.
"""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from enum import IntEnum
from typing import Any, TypeVar

import click
from pydantic import BaseModel
from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from sortitor.client.errors import SortitorProblem
from sortitor.core.cells import harmless
from sortitor.schemas.base import Preview

Command = TypeVar("Command", bound=Callable[..., Any])
_TONES = {"good": "green", "warn": "yellow", "bad": "red", "plain": ""}


#: Columns whose words are copied, so they are never broken.
_WHOLE = ("Id", "Name", "Serial", "Order")


class ExitCode(IntEnum):
    """What the exit code says."""

    DONE = 0
    FINDINGS = 1
    USAGE = 2
    UNREACHABLE = 3
    REFUSED = 4
    CHANGED_MEANWHILE = 5


def console(stderr: bool = False) -> Console:
    """Where to print; a pipe gets 140 columns."""
    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() else 140
    return Console(file=stream, width=width, highlight=False, soft_wrap=False, emoji=False)


def output_option(command: Command) -> Command:
    """`-o`: how data is written."""
    kinds = click.Choice(["table", "json", "jsonl", "csv"])
    return click.option(
        "-o",
        "--output",
        type=kinds,
        default="table",
        show_default=True,
        help="How to write the data.",
    )(command)


def most_option(command: Command) -> Command:
    """`--most`: how many lines at most."""
    return click.option(
        "--most", type=click.IntRange(1), default=50, show_default=True, help="How many at most."
    )(command)


def change_options(command: Command) -> Command:
    """`--yes` and `--reason`, for everything that changes something."""
    command = click.option("--reason", help="Why, for the journal.")(command)
    return click.option("-y", "--yes", is_flag=True, help="Do it without asking.")(command)


def talk(text: str) -> None:
    """A hint or a remark, to stderr."""
    click.echo(text, err=True)


def write(
    items: Iterable[BaseModel],
    output: str,
    columns: dict[str, Callable[[Any], Any]],
    hint: str = "",
    empty: str = "Nothing here.",
) -> list[Any]:
    """A list: a table of the columns (heading → value of an item), or all fields as JSON, JSON
    Lines or CSV.
    """
    found = list(items)
    if output == "json":
        click.echo(
            json.dumps(
                [item.model_dump(mode="json") for item in found], ensure_ascii=False, indent=2
            )
        )
    elif output == "jsonl":
        for item in found:
            click.echo(item.model_dump_json())
    elif output == "csv":
        _write_csv(found)
    elif not found:
        talk(empty)
    else:
        console().print(_table(found, columns))
    if hint and output == "table":
        talk(hint)
    return found


def _write_csv(items: Sequence[BaseModel]) -> None:
    writer = csv.writer(sys.stdout, lineterminator="\r\n")
    if items:
        writer.writerow(type(items[0]).model_fields)
    for item in items:
        values = item.model_dump(mode="json").values()
        writer.writerow(harmless(value) for value in values)


def _table(items: Sequence[Any], columns: dict[str, Callable[[Any], Any]]) -> Table:
    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold")
    # A number that is a name is shown as it is typed.
    cells = [
        [
            shown(str(value(item)) if heading == "Id" else value(item))
            for heading, value in columns.items()
        ]
        for item in items
    ]
    for place, heading in enumerate(columns):
        numeric = all(
            row[place].plain.replace(",", "").replace("–", "").strip().isdigit()
            or row[place].plain in ("", "–")
            for row in cells
        )
        table.add_column(
            heading,
            justify="right" if numeric else "left",
            overflow="fold",
            no_wrap=heading in _WHOLE,
        )
    for row in cells:
        table.add_row(*row)
    return table


def shown(value: Any) -> Text:
    """A value for people: numbers grouped, times as age, nothing as a dash."""
    if isinstance(value, Text):
        return value
    if value is None or value == "" or value == []:
        return Text("–", style="dim")
    if isinstance(value, bool):
        return Text("yes" if value else "no")
    if isinstance(value, int):
        return Text(f"{value:,}")
    if isinstance(value, datetime):
        return Text(f"{value.astimezone(UTC):%Y-%m-%d %H:%M}")
    if isinstance(value, list):
        return Text(", ".join(map(str, value)))
    return Text(str(value))


def toned(text: str, tone: str) -> Text:
    """Words with a colour that never carries the meaning alone."""
    return Text(text, style=_TONES.get(tone, ""))


def record(pairs: Sequence[tuple[str, Any]]) -> None:
    """One thing, field by field."""
    table = Table(box=None, pad_edge=False, show_header=False)
    table.add_column(style="bold")
    table.add_column(overflow="fold")
    for name, value in pairs:
        table.add_row(name, shown(value))
    console().print(table)


def heading(text: str) -> None:
    """A line that says what follows."""
    console().print(Text(f"\n{text}", style="bold"))


def plain(text: str, tone: str = "plain") -> None:
    """A line of data."""
    console().print(toned(text, tone))


def show_preview(preview: Preview) -> None:
    """A preview: counts, what to know, before and after.

    To stderr, as it comes before a question.
    """
    err = console(stderr=True)
    err.print(Text(preview.title, style="bold"))
    width = max((len(f"{count.count:,}") for count in preview.counts), default=1)
    for count in preview.counts:
        err.print(
            toned(
                f"  {count.count:>{width},}  {count.label}", count.tone if count.count else "plain"
            )
        )
    if preview.bars:
        _bars(err, preview)
    if preview.examples:
        columns: dict[str, Callable[[Any], Any]] = {
            "What": lambda e: e.subject,
            "Field": lambda e: e.field.replace("_", " "),
            "Before": lambda e: e.before,
            "After": lambda e: e.after,
            "Remark": lambda e: e.note,
        }
        err.print(_table(preview.examples[:12], columns))
        if preview.examples_total > 12:
            err.print(Text(f"  … and {preview.examples_total - 12:,} more", style="dim"))
    for warning in preview.warnings:
        err.print(Text(f"! {warning}", style="yellow"))


def _bars(err: Console, preview: Preview) -> None:
    most = max(bar.count for bar in preview.bars) or 1
    line = preview.bars_line_days or 0
    err.print(Text("  idle days of everything watched", style="dim"))
    for bar in preview.bars:
        mark = "◀ window" if bar.low <= line <= bar.high else ""
        tone = "yellow" if bar.low >= line else ""
        err.print(
            Text(
                f"  {bar.low:>4}–{bar.high:<4} {'█' * round(40 * bar.count / most):<40}"
                f" {bar.count:>6,} {mark}".rstrip(),
                style=tone,
            )
        )


def agree(preview: Preview, yes: bool) -> None:
    """Show the preview and ask; a pipe without --yes is refused, since nobody could answer."""
    show_preview(preview)
    if yes:
        return
    if not sys.stdin.isatty():
        raise click.UsageError(
            "Nobody is there to answer: give --yes to do it, or run it in a terminal."
        )
    click.confirm(f"{preview.apply_label}?", abort=True, err=True)


def show_problem(error: SortitorProblem) -> None:
    """An error of the service, to stderr."""
    problem = error.problem
    talk(f"Error: {problem.detail}")
    for field in problem.errors[:10]:
        if field.detail not in problem.detail:
            talk(f"  {field.pointer}: {field.detail}")
    if len(problem.errors) > 10:
        talk(f"  … and {len(problem.errors) - 10} more")
    if problem.remedy:
        talk(f"  {problem.remedy}")
    if problem.preview is not None:
        show_preview(problem.preview)
