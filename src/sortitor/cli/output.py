"""How the command line speaks: lists, records, previews, errors, exit codes.

Data goes to stdout, talk to stderr.
"""

from __future__ import annotations

import csv
import json
import shlex
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from enum import IntEnum
from pathlib import Path
from typing import Any, Literal, TypeVar

import click
from click.core import ParameterSource
from pydantic import BaseModel
from rich.console import Console
from rich.table import Table
from rich.text import Text

from sortitor.cli.manner import Manner, dry_run
from sortitor.cli.tables import Columns, Layout, Rows, print_table
from sortitor.client.errors import SortitorProblem
from sortitor.core.cells import harmless
from sortitor.schemas.base import Preview

Command = TypeVar("Command", bound=Callable[..., Any])
_TONES = {"good": "green", "warn": "yellow", "bad": "red", "plain": ""}
_PIPE_WIDTH = 140
_EXAMPLES_SHOWN = 12
_FAULTS_SHOWN = 10
_BAR = 40


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
    width = None if stream.isatty() else _PIPE_WIDTH
    return Console(
        file=stream,
        width=width,
        highlight=False,
        soft_wrap=False,
        emoji=False,
        no_color=Manner.plain or None,
    )


# ---- options that many commands have


def output_option(command: Command) -> Command:
    """`-o`: how data is written."""
    option = click.option(
        "-o",
        "--output",
        type=click.Choice(["table", "json", "jsonl", "csv"]),
        default="table",
        show_default=True,
        help="How to write the data.",
    )
    return option(command)


def form_option(words: str = "How to write the data.") -> Callable[[Command], Command]:
    """`-o` where what is shown is no list."""
    return click.option(
        "-o",
        "--output",
        type=click.Choice(["table", "json"]),
        default="table",
        show_default=True,
        help=words,
    )


def most_option(command: Command) -> Command:
    """`--most`: how many lines at most."""
    option = click.option(
        "--most", type=click.IntRange(1), default=50, show_default=True, help="How many at most."
    )
    return option(command)


def reason_option(command: Command) -> Command:
    """`--reason`, for every change."""
    return click.option("--reason", help="Why, for the journal.")(command)


yes_option = click.option("-y", "--yes", is_flag=True, help="Do it without asking.")


confirm_option = click.option(
    "--confirm", type=int, help="How many devices are erased, instead of being asked."
)


_DRY = "sortitor.dry_run"


dry_run_option = dry_run(_DRY, "Only show what it would do.")


def change_options(command: Command) -> Command:
    """`--dry-run`, `--yes` and `--reason`, for everything that is previewed."""
    return dry_run_option(yes_option(reason_option(command)))


class InFile(click.Path):
    """A file to read; `-` is standard input."""

    name = "file"

    def __init__(self) -> None:
        super().__init__(exists=True, dir_okay=False, path_type=Path)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Its path."""
        given = "/dev/stdin" if value == "-" else value
        return super().convert(given, param, ctx)


class OutFile(click.Path):
    """A file to write; `-` is standard output. One that is there is not overwritten unasked."""

    name = "file"

    def __init__(self) -> None:
        super().__init__(dir_okay=False, path_type=Path)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Its path."""
        if value == "-":
            return STANDARD_OUTPUT
        path = Path(str(super().convert(value, param, ctx)))
        if path.exists() and not (ctx and ctx.meta.get(_OVERWRITE)):
            if not sys.stdin.isatty():
                self.fail(f"{path} is there already; give --overwrite to write over it.")
            click.confirm(f"{path} is there already. Write over it?", abort=True, err=True)
        return path


_SECRET = "sortitor.secret"


class _Secret(click.Option):
    """An option that is not asked for where a file holds it."""

    def consume_value(self, ctx: click.Context, opts: Any) -> tuple[Any, ParameterSource]:
        """What the file says, before anything else."""
        told = ctx.meta.get(f"{_SECRET}.{self.name}")
        if told is not None:
            return told, ParameterSource.COMMANDLINE
        return super().consume_value(ctx, opts)


def secret_option(flag: str, **more: Any) -> Callable[[Command], Command]:
    """A secret: asked for, from the environment, or from a file; `-` is standard input. Given as it
    is, others read it in the list of processes.
    """
    name = flag.removeprefix("--").replace("-", "_")

    def read(ctx: click.Context, parameter: click.Parameter, value: Path | None) -> None:
        if value is not None:
            ctx.meta[f"{_SECRET}.{name}"] = value.read_text().rstrip("\r\n")

    def add(command: Command) -> Command:
        file = click.option(
            f"{flag}-file",
            type=InFile(),
            is_eager=True,
            expose_value=False,
            callback=read,
            help="A file with it; - is standard input.",
        )
        hidden = bool(more.get("prompt"))
        secret = click.option(flag, name, cls=_Secret, hide_input=hidden, **more)
        return secret(file(command))

    return add


_OVERWRITE = "sortitor.overwrite"


def _overwriting(ctx: click.Context, parameter: click.Parameter, value: bool) -> None:
    ctx.meta[_OVERWRITE] = value


#: Where `-` goes.
STANDARD_OUTPUT = Path("/dev/stdout")


def form_of(to: Path) -> Literal["csv", "xlsx"]:
    """The form that a file's ending asks for; standard output gets CSV."""
    if to.suffix.lower() == ".xlsx":
        return "xlsx"
    if to.suffix.lower() == ".csv" or to == STANDARD_OUTPUT:
        return "csv"
    raise click.BadParameter(f"{to.name!r} ends neither in .csv nor in .xlsx.", param_hint="--to")


def written(to: Path, more: str = "") -> None:
    """Say where a file went."""
    if to != STANDARD_OUTPUT:
        talk(f"Written to {to}.{more}")


def to_option(help: str, required: bool = True) -> Callable[[Command], Command]:
    """`--to` and `--overwrite`: where a file goes."""

    def add(command: Command) -> Command:
        overwrite = click.option(
            "--overwrite",
            is_flag=True,
            is_eager=True,
            expose_value=False,
            callback=_overwriting,
            help="Write over a file that is there.",
        )
        option = click.option(
            "--to", type=OutFile(), required=required, help=f"{help} `-` is standard output."
        )
        return option(overwrite(command))

    return add


# ---- words


def talk(text: str) -> None:
    """A hint or a remark, to stderr; with --quiet it is left out."""
    if not Manner.quiet:
        click.echo(text, err=True)


def heading(text: str) -> None:
    """A line that says what follows."""
    console().print(Text(f"\n{text}", style="bold"))


def plain(text: str, tone: str = "plain", hang: int = 0) -> None:
    """A line of data; where it has to go on below, it does so `hang` characters from the left."""
    if not hang:
        console().print(toned(text, tone))
        return
    line = Table.grid(padding=0)
    line.add_column(width=hang, no_wrap=True)
    line.add_column()
    line.add_row(toned(text[:hang], tone), toned(text[hang:], tone))
    console().print(line)


def toned(text: str, tone: str) -> Text:
    """Words with a colour that never carries the meaning alone."""
    return Text(text, style=_TONES.get(tone, ""))


def counted(number: int, word: str) -> str:
    """`1 day`, `2 days`."""
    return f"{number:,} {word}" if number == 1 else f"{number:,} {word}s"


def quoted(name: str) -> str:
    """A name as it is typed in a command."""
    return shlex.quote(name)


def shown(value: Any) -> Text:
    """A value for people: numbers grouped, times in UTC, nothing as a dash."""
    if isinstance(value, Text):
        return value
    if value is None or value == "" or (isinstance(value, list | tuple) and not value):
        return Text("–", style="dim")
    if isinstance(value, bool):
        return Text("yes" if value else "no")
    if isinstance(value, int):
        return Text(f"{value:,}")
    if isinstance(value, datetime):
        return Text(f"{value.astimezone(UTC):%Y-%m-%d %H:%M}")
    if isinstance(value, list | tuple):
        return Text(", ".join(map(str, value)))
    return Text(str(value))


# ---- lists and records


def write(
    items: Iterable[BaseModel],
    output: str,
    columns: Columns,
    *,
    hint: str = "",
    empty: str = "Nothing here.",
    most: int | None = None,
    below: Sequence[str] = (),
    first_to_go: Sequence[str] = (),
) -> list[Any]:
    """A list: a table of the columns (heading → value of an item), or all fields as JSON, JSON
    Lines or CSV; gives the items shown.

    most: how many at most; where `items` has one more, it is said how to see more. below and
    first_to_go: how the table gives way in a narrow terminal (see `cli/tables.py`).
    """
    found = list(items)
    more = most is not None and len(found) > most
    found = found[:most]
    if output != "table":
        _write_data(found, output)
        return found
    if not found:
        talk(empty)
        return found
    print_columns(found, columns, below=below, first_to_go=first_to_go)
    if more:
        assert most is not None
        talk(f"\nThe first {most:,} are shown. See more with: --most {most * 4}")
    if hint:
        talk(hint if more else f"\n{hint}")
    return found


def write_one(item: BaseModel, output: str) -> None:
    """One thing as data: a JSON object, or a line of JSON Lines or CSV."""
    if output == "json":
        click.echo(json.dumps(item.model_dump(mode="json"), ensure_ascii=False, indent=2))
    else:
        _write_data([item], output)


def is_data(item: BaseModel, output: str) -> bool:
    """Write one thing as data, where that is wanted; else it is for the caller to show."""
    if output == "table":
        return False
    write_one(item, output)
    return True


def _write_data(items: Sequence[BaseModel], output: str) -> None:
    if output == "json":
        values = [item.model_dump(mode="json") for item in items]
        click.echo(json.dumps(values, ensure_ascii=False, indent=2))
    elif output == "jsonl":
        for item in items:
            click.echo(item.model_dump_json())
    else:
        _write_csv(items)


def _write_csv(items: Sequence[BaseModel]) -> None:
    writer = csv.writer(sys.stdout, lineterminator="\r\n")
    if items:
        writer.writerow(type(items[0]).model_fields)
    for item in items:
        values = item.model_dump(mode="json").values()
        writer.writerow(harmless(value) for value in values)


def print_columns(
    items: Sequence[Any],
    columns: Columns,
    *,
    below: Sequence[str] = (),
    first_to_go: Sequence[str] = (),
    stderr: bool = False,
) -> Layout:
    """A table of items; what gave way is named."""
    cells = {
        # A number that is a name is shown as it is typed.
        title: [shown(str(value(item)) if title == "Id" else value(item)) for item in items]
        for title, value in columns.items()
    }
    found = print_table(console(stderr), Rows(cells, below, first_to_go))
    if found.left_out:
        names = ", ".join(found.left_out)
        talk(f"\nNot shown for want of width: {names}. All fields: -o json")
    return found


def record(pairs: Sequence[tuple[str, Any]]) -> None:
    """One thing, field by field; what is long wraps between its words."""
    out = console()
    wide = max((len(name) for name, _ in pairs), default=0)
    for name, value in pairs:
        text = shown(value)
        lines = text.wrap(out, max(20, out.width - wide - 2)) or [Text()]
        for place, line in enumerate(lines):
            title = name if place == 0 else ""
            out.print(Text.assemble((f"{title:<{wide}}  ", "bold"), line), soft_wrap=True)


# ---- previews


def show_preview(preview: Preview) -> None:
    """A preview: counts, what to know, before and after.

    To stderr, as it comes before a question.
    """
    err = console(stderr=True)
    err.print(Text(preview.title, style="bold"))
    width = max((len(f"{count.count:,}") for count in preview.counts), default=1)
    for count in preview.counts:
        tone = count.tone if count.count else "plain"
        err.print(toned(f"  {count.count:>{width},}  {count.label}", tone))
    for change in preview.changes:
        err.print(f"  {change.field}: {change.before or '–'} → {change.after or '–'}")
    if preview.bars:
        _bars(err, preview)
    if preview.examples:
        _examples(preview)
    for warning in preview.warnings:
        err.print(Text(f"! {warning}", style="yellow"))


def _examples(preview: Preview) -> None:
    columns: Columns = {
        "What": lambda example: example.subject,
        "Field": lambda example: example.field.replace("_", " "),
        "Before": lambda example: example.before,
        "After": lambda example: example.after,
        "Remark": lambda example: example.note,
    }
    print_columns(preview.examples[:_EXAMPLES_SHOWN], columns, below=["Remark"], stderr=True)
    left = preview.examples_total - _EXAMPLES_SHOWN
    if left > 0:
        console(stderr=True).print(Text(f"  … and {left:,} more", style="dim"))


def _bars(err: Console, preview: Preview) -> None:
    most = max(bar.count for bar in preview.bars) or 1
    line = preview.bars_line_days or 0
    room = min(_BAR, max(10, err.width - 30))
    err.print(Text("  idle days of everything watched", style="dim"))
    for bar in preview.bars:
        mark = "◀ window" if bar.low <= line <= bar.high else ""
        blocks = "█" * round(room * bar.count / most)
        text = f"  {bar.low:>4}–{bar.high:<4} {blocks:<{room}} {bar.count:>6,} {mark}"
        err.print(Text(text.rstrip(), style="yellow" if bar.low >= line else ""))


def agree(preview: Preview, yes: bool, question: str = "") -> None:
    """Show the preview and ask; a pipe without --yes is refused, since nobody could answer. With
    --dry-run that was all.
    """
    show_preview(preview)
    if click.get_current_context().meta.get(_DRY):
        raise click.exceptions.Exit(ExitCode.DONE)
    if preview.nothing_to_do:
        talk("There is nothing to do.")
        raise click.exceptions.Exit(ExitCode.DONE)
    if yes:
        return
    if not sys.stdin.isatty():
        raise click.UsageError(
            "Nobody is there to answer: give --yes to do it, or run it in a terminal."
        )
    click.confirm(question or f"{preview.apply_label}?", abort=True, err=True)


def confirmed(preview: Preview, given: int | None) -> int:
    """The second confirmation of what cannot be taken back: the number of devices, typed."""
    if given is not None:
        agree(preview, True)
        return given
    agree(preview, False)
    return int(click.prompt("Nothing brings them back. Type how many are erased", type=int))


# ---- errors


def show_problem(error: SortitorProblem) -> None:
    """An error of the service, to stderr."""
    problem = error.problem
    click.echo(f"Error: {problem.detail}", err=True)
    for fault in problem.errors[:_FAULTS_SHOWN]:
        if fault.detail not in problem.detail:
            talk(f"  {fault.pointer}: {fault.detail}")
    if len(problem.errors) > _FAULTS_SHOWN:
        talk(f"  … and {len(problem.errors) - _FAULTS_SHOWN} more")
    if problem.remedy:
        taken = "  With --fix it is taken." if any(one.suggestion for one in problem.errors) else ""
        talk(f"  {problem.remedy}{taken}")
    if problem.preview is not None:
        show_preview(problem.preview)
