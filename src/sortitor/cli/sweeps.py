"""`sortitor sweep`: retiring what went quiet."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from sortitor.cli.connection import connect
from sortitor.cli.output import (
    agree,
    change_options,
    most_option,
    output_option,
    show_preview,
    talk,
    write,
)
from sortitor.schemas.sweeps import RuleNew

Command = TypeVar("Command", bound=Callable[..., Any])
_COLUMNS = {
    "Id": lambda r: r.id,
    "Rule": lambda r: r.name,
    "Window": lambda r: f"{r.idle_window_days} days",
    "Devices": lambda r: r.filter or "all",
    "Daily": lambda r: r.daily,
    "Brake": lambda r: f"{r.brake_percent} %",
}


@click.group()
def sweep() -> None:
    """Retire what went quiet: rules, previews, runs."""


def _rule_options(command: Command) -> Command:
    for option in reversed(
        (
            click.option(
                "--idle-window",
                "idle_window_days",
                type=int,
                required=True,
                help="Days without a sign of life.",
            ),
            click.option(
                "--filter",
                "filter",
                metavar="FILTER",
                help="Who is watched, in the filter language.  [all]",
            ),
            click.option(
                "--daily/--by-hand", default=False, help="Run it every day, or only by hand."
            ),
            click.option(
                "--brake",
                "brake_percent",
                type=int,
                default=5,
                show_default=True,
                help="A daily run that would take more than this share stops and asks.",
            ),
        )
    ):
        command = option(command)
    return command


@sweep.command()
@output_option
@click.pass_obj
def rules(obj: dict[str, Any], /, output: str) -> None:
    """List the rules.

    \b
    Example:
      sortitor sweep rules
    """
    with connect(obj) as s:
        write(
            s.sweeps.rules(),
            output,
            _COLUMNS,
            "\nNext: sortitor sweep preview ID",
            "No rules yet. Next: sortitor sweep add NAME --idle-window 90",
        )


@sweep.command()
@click.argument("name")
@_rule_options
@click.pass_obj
def add(obj: dict[str, Any], /, **given: Any) -> None:
    """Add a rule; nothing is retired by that.

    \b
    Example:
      sortitor sweep add "Quiet tablets" --idle-window 120 --filter 'platform eq "android"'
    """
    with connect(obj) as s:
        made = s.sweeps.add_rule(RuleNew(**given))
    talk(f"Rule {made.id} added. Next: sortitor sweep preview {made.id}")


@sweep.command()
@click.argument("rule_id", type=int)
@click.argument("name")
@_rule_options
@click.pass_obj
def edit(obj: dict[str, Any], /, rule_id: int, **given: Any) -> None:
    """Change a rule.

    \b
    Example:
      sortitor sweep edit 1 "Quiet tablets" --idle-window 150 --filter 'platform eq "android"'
    """
    with connect(obj) as s:
        s.sweeps.edit_rule(rule_id, RuleNew(**given))
    talk(f"Changed. Next: sortitor sweep preview {rule_id}")


@sweep.command()
@click.argument("rule_id", type=int)
@click.pass_obj
def remove(obj: dict[str, Any], /, rule_id: int) -> None:
    """Remove a rule; its runs stay.

    \b
    Example:
      sortitor sweep remove 1
    """
    with connect(obj) as s:
        s.sweeps.remove_rule(rule_id)
    talk("Removed.")


@sweep.command()
@click.argument("rule_id", type=int)
@click.pass_obj
def preview(obj: dict[str, Any], /, rule_id: int) -> None:
    """Whom a rule would retire now, with the histogram of idle days.

    \b
    Example:
      sortitor sweep preview 1
    """
    with connect(obj) as s:
        show_preview(s.sweeps.preview(rule_id))
    talk(
        f"\nNext: sortitor sweep apply {rule_id}    or keep one: sortitor device hold DEVICE"
        " --until DAY --reason WHY"
    )


@sweep.command()
@click.argument("rule_id", type=int)
@change_options
@click.pass_obj
def apply(obj: dict[str, Any], /, rule_id: int, yes: bool, reason: str | None) -> None:
    """Retire what the preview shows.

    \b
    Example:
      sortitor sweep apply 1 --reason "winter clean-up"
    """
    with connect(obj) as s:
        shown = s.sweeps.preview(rule_id)
        agree(shown, yes)
        done = s.sweeps.apply(rule_id, shown.digest, reason)
    talk(
        f"Sweep {done.id}: {done.retired:,} of {done.watched:,} devices retired. Take it back with:"
        f" sortitor sweep revert {done.id}"
    )


@sweep.command("list")
@most_option
@output_option
@click.pass_obj
def list_runs(obj: dict[str, Any], /, most: int, output: str) -> None:
    """List runs, newest first.

    \b
    Example:
      sortitor sweep list
    """
    columns = {
        "Id": lambda r: r.id,
        "Rule": lambda r: r.rule_name,
        "At": lambda r: r.at,
        "By": lambda r: r.by,
        "State": lambda r: r.state,
        "Retired": lambda r: r.retired,
        "Watched": lambda r: r.watched,
    }
    with connect(obj) as s:
        write(s.sweeps.runs(most), output, columns, empty="No sweeps yet.")


@sweep.command()
@click.argument("sweep_id", type=int)
@change_options
@click.pass_obj
def revert(obj: dict[str, Any], /, sweep_id: int, yes: bool, reason: str | None) -> None:
    """Bring a run's devices back to the stage they had.

    \b
    Example:
      sortitor sweep revert 4
    """
    with connect(obj) as s:
        shown = s.sweeps.preview_revert(sweep_id)
        agree(shown, yes)
        s.sweeps.revert(sweep_id, shown.digest, reason)
    talk(f"Sweep {sweep_id} reverted.")
