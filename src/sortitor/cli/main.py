"""The root of the command line: it only wires.

Each group is imported when it is called, so that `--help` is quick.
"""

from __future__ import annotations

import gc
import importlib
import os
import sys
from contextlib import nullcontext
from pathlib import Path
from typing import Any, cast

import click

from sortitor.cli.manner import Manner
from sortitor.core import building

# The HTTP library brings a command of its own, and with it what that draws: here nobody calls it,
# and a twelfth of the time of every command would go to it.
sys.modules.setdefault("httpx._main", cast(Any, None))

#: Command → (module, attribute, one line of help).
_COMMANDS = {
    "account": ("sortitor.cli.accounts", "account", "Sign in, accounts, tokens."),
    "arrival": ("sortitor.cli.arrivals", "arrival", "Who arrived, was parked or refused, and why."),
    "backup": ("sortitor.server.keeping", "backup", "Write a backup while the service runs."),
    "backup-key": ("sortitor.server.keeping", "backup_key", "Make keys for encrypted backups."),
    "check": ("sortitor.server.checking", "check", "What is wrong with this installation."),
    "checklist": ("sortitor.cli.sheets", "checklist", "What must be done before handing over."),
    "cohort": ("sortitor.cli.cohorts", "cohort", "Sets of devices, by filter or by list."),
    "completion": ("sortitor.cli.completion", "completion", "Let the shell complete commands."),
    "config": ("sortitor.cli.config", "config", "Saved connections, and which is used."),
    "demo": ("sortitor.server.demo", "demo", "Run the service with a made-up ferry company."),
    "device": ("sortitor.cli.devices", "device", "Find, read, declare, assign and hold devices."),
    "end": ("sortitor.cli.ends", "end", "What ends, and who is reminded of it."),
    "file": ("sortitor.cli.files", "file", "Files that are kept for devices."),
    "filter": ("sortitor.cli.filters", "filter_", "The language that chooses devices."),
    "gate": ("sortitor.cli.gate", "gate", "Which devices may come in; try one."),
    "group": ("sortitor.cli.groups", "group", "Groups of people, and groups in groups."),
    "here": ("sortitor.cli.here", "here", "What this machine knows of its own hardware."),
    "item": ("sortitor.cli.items", "item", "What can be given: settings, apps, networks, …"),
    "job": ("sortitor.cli.jobs", "job", "Long work: how far it is, stopping it."),
    "journal": ("sortitor.cli.journal", "journal", "Who changed what, and taking it back."),
    "kit": ("sortitor.cli.kits", "kit", "Sets of items, and what each device gets."),
    "level": ("sortitor.cli.levels", "level", "Where other systems disagree, and mending it."),
    "lot": ("sortitor.cli.lots", "lot", "Import purchased identifiers."),
    "mail": ("sortitor.cli.mails", "mail", "What was mailed, and whether mails go out."),
    "migrate": ("sortitor.server.keeping", "migrate", "Bring the database to this version."),
    "name": ("sortitor.cli.naming", "name", "Naming templates and renaming."),
    "order": ("sortitor.cli.orders", "order", "What was ordered against what came."),
    "own-setting": (
        "sortitor.cli.catalogue",
        "own_setting",
        "Settings that you add to the catalogue.",
    ),
    "pass": ("sortitor.cli.passes", "pass_", "Codes that let devices knock at the gate."),
    "person": ("sortitor.cli.people", "person", "People, their groups and their devices."),
    "pool": ("sortitor.cli.licences", "pool", "Licence seats: needed, and there."),
    "recover": ("sortitor.server.keeping", "recover", "Let an administrator in again."),
    "restore": ("sortitor.server.keeping", "restore", "Bring a backup back into an empty place."),
    "retention": ("sortitor.cli.retention", "retention", "What goes when its time is over."),
    "rotate-keys": ("sortitor.server.keeping", "rotate_keys", "Encrypt credentials anew."),
    "rule": ("sortitor.cli.sweeps", "rule", "Rules of sweeps: whom they watch, how long."),
    "serve": ("sortitor.server.commands", "serve", "Run the service."),
    "session": ("sortitor.cli.accounts", "session", "Who is signed in to the console."),
    "setting": ("sortitor.cli.catalogue", "setting", "The catalogue of what can be set."),
    "settings": ("sortitor.server.checking", "settings_", "What is set for the service."),
    "sheet": ("sortitor.cli.sheets", "sheet", "The choices of a device's first start."),
    "simulate": ("sortitor.cli.simulate", "simulate", "Let a made-up fleet knock and check in."),
    "source": ("sortitor.cli.sources", "source", "Directories, registries, rosters; their runs."),
    "stand-in": ("sortitor.server.stand_ins", "stand_in", "Outside systems to try things with."),
    "erasure": ("sortitor.cli.sweeps", "erasure", "What was erased, and its certificates."),
    "hold": ("sortitor.cli.sweeps", "hold", "Keep devices out of sweeps until a day."),
    "sweep": ("sortitor.cli.sweeps", "sweep", "Retire what went quiet."),
    "terms": ("sortitor.cli.terms", "terms", "What people accept at the door."),
    "token": ("sortitor.cli.accounts", "token", "Tokens for scripts and other systems."),
    "today": ("sortitor.cli.today", "today", "What needs a hand."),
    "view": ("sortitor.cli.views", "view", "Saved views of the device list."),
    "welcome": ("sortitor.cli.welcome", "welcome", "What a person sees while a device comes in."),
    "work": ("sortitor.server.commands", "work", "Run only the queue's worker."),
}


#: What stays until it is asked to end.
_STAYING = ("demo", "serve", "work")


def _is_of_service(word: str) -> bool:
    return word in _COMMANDS and _COMMANDS[word][0].startswith("sortitor.server")


def _ending() -> Any:
    """How those end: by a module of theirs, which the command line itself does not need."""
    return importlib.import_module("sortitor.server.ending").ending


class _Lazy(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        module, attribute, _ = _COMMANDS[name]
        try:
            with _ending().later() if name in _STAYING else nullcontext():
                command = getattr(importlib.import_module(module), attribute)
                if not gc.isenabled():
                    # It stays to the end: looked through as garbage, then and before, it would take
                    # a sixth of the time of a command.
                    gc.freeze()
                    gc.enable()
        except ModuleNotFoundError as error:
            if module.startswith("sortitor.server"):
                raise click.UsageError(
                    f"`sortitor {name}` needs the service: pip install 'sortitor[server]'"
                    f" ({error.name} is missing)."
                ) from error
            raise
        assert isinstance(command, click.Command)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, _COMMANDS[name][2]) for name in sorted(_COMMANDS)])

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as error:
            import difflib

            near = difflib.get_close_matches(args[0], _COMMANDS, 1)
            raise click.UsageError(
                f"{error.message}" + (f" Did you mean {near[0]!r}?" if near else "")
            ) from error


@click.group(
    cls=_Lazy, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110}
)
@click.version_option(package_name="sortitor")
@click.option(
    "--url",
    envvar="SORTITOR_URL",
    help="The service's address.  [profile, else http://127.0.0.1:8470]",
)
@click.option("--token", envvar="SORTITOR_TOKEN", help="A bearer token.  [profile]")
@click.option(
    "--token-file",
    envvar="SORTITOR_TOKEN_FILE",
    metavar="FILE",
    help="A file with it, since others can read the list of processes; - is standard input.",
)
@click.option(
    "--profile",
    envvar="SORTITOR_PROFILE",
    default="default",
    show_default=True,
    help="Which saved connection to use.",
)
@click.option("-q", "--quiet", is_flag=True, help="Write data and errors, no remarks.")
@click.option("-v", "--verbose", is_flag=True, help="Tell each request, its answer and its time.")
@click.option("--no-color", is_flag=True, help="Without colours; NO_COLOR in the environment too.")
@click.pass_context
def root(ctx: click.Context, /, token: str | None, token_file: str | None, **given: Any) -> None:
    """Sortitor: every device looked at before it is acted on.

    \b
    Examples:
      sortitor account sign-in --name coordinator
      sortitor lot check delivery.csv --set ownership=corporate
      sortitor today
    """
    Manner.quiet, Manner.plain = given["quiet"], given["no_color"]
    if token_file:
        token = _read_token(token_file)
    ctx.obj = {"token": token, **given}


def _read_token(file: str) -> str:
    try:
        text = sys.stdin.read() if file == "-" else Path(file).read_text()
    except OSError as error:
        raise click.UsageError(f"{file} cannot be read: {error.strerror}.") from error
    return text.strip()


def main() -> None:
    """The `sortitor` command. Exit codes are in `sortitor.cli.output.ExitCode`."""
    gc.disable()
    building.when_used = not any(map(_is_of_service, sys.argv[1:]))
    if building.when_used:
        # Pydantic would look through every package that is installed for plugins of its own.
        os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    if sys.argv[1:2] and sys.argv[1] in _STAYING:
        # From here on nothing that asks it to end is lost, whatever is being loaded.
        _ending().on_signals()
    try:
        # Without standalone mode click gives the code of an Exit back instead of leaving.
        code = root.main(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except click.Abort:
        click.echo("Stopped; nothing was changed.", err=True)
        sys.exit(2)
    except click.ClickException as error:
        error.show()
        sys.exit(2)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(0)
    except Exception as error:  # noqa: BLE001 - told apart just below
        _report(error)


def _report(error: Exception) -> None:
    """Turn what the client raises into words and an exit code; anything else is a fault of ours and
    is shown whole.
    """
    from sortitor.cli.output import ExitCode, show_problem
    from sortitor.client.errors import (
        FactsMoved,
        SignInNeeded,
        SortitorProblem,
        Unreachable,
        Unreadable,
    )

    if isinstance(error, Unreachable):
        click.echo(
            f"Error: {error}\n  Is the service running? Start it with `sortitor serve`, or give"
            " --url.",
            err=True,
        )
        sys.exit(ExitCode.UNREACHABLE)
    if isinstance(error, Unreadable):
        click.echo(f"Error: {error}", err=True)
        sys.exit(ExitCode.UNREACHABLE)
    if not isinstance(error, SortitorProblem):
        raise error
    show_problem(error)
    if isinstance(error, SignInNeeded):
        sys.exit(ExitCode.UNREACHABLE)
    sys.exit(
        ExitCode.CHANGED_MEANWHILE
        if isinstance(error, FactsMoved) or error.problem.status in (409, 412)
        else ExitCode.REFUSED
    )
