"""How long a person waits for the command line and for a start."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path
from tempfile import mkdtemp

from tests.processes import SORTITOR, serve

from bench.figures import Figure, service, timed, typical
from sortitor.server.postgres import Cluster

#: What a command that asks the service cannot do without.
_LIBRARIES = "import click, httpx, pydantic.main, rich.console, rich.table"
_COMMANDS = (("pool", "list"), ("kit", "list"), ("device", "list"), ("today",))


def measure(cluster: Cluster) -> list[Figure]:
    """Commands against importing the libraries alone; a start on an existing cluster."""
    return [_help(), *_commands(cluster), _start()]


def _help() -> Figure:
    help_seconds = typical(lambda: _run(SORTITOR, "--help"), 15)
    click_seconds = typical(lambda: _run(sys.executable, "-c", "import click"), 15)
    name = "sortitor --help / python -c 'import click'"
    return Figure(name, help_seconds, click_seconds, "s", "≤ 2")


def _commands(cluster: Cluster) -> list[Figure]:
    with service(cluster, "commands") as (process, s, _):
        token = str(s._transport.http.headers["Authorization"]).removeprefix("Bearer ")
        asked = {**os.environ, "SORTITOR_URL": process.url, "SORTITOR_TOKEN": token}
        floor = typical(lambda: _run(sys.executable, "-c", _LIBRARIES), 15)
        return [_command(words, asked, floor) for words in _COMMANDS]


def _command(words: tuple[str, ...], asked: dict[str, str], floor: float) -> Figure:
    seconds = typical(lambda: _run(SORTITOR, *words, env=asked), 15)
    return Figure(
        f"sortitor {' '.join(words)} / importing its libraries", seconds, floor, "s", "≤ 2"
    )


def _start() -> Figure:
    state = Path(mkdtemp(prefix="sortitor-bench-"))
    state.chmod(0o755)
    with serve(SORTITOR_STATE_DIR=str(state)):
        pass

    ready = []
    for _ in range(3):
        holder = serve(SORTITOR_STATE_DIR=str(state))
        ready.append(timed(holder.__enter__))
        holder.__exit__(None, None, None)
    name = "sortitor serve to ready on an existing cluster"
    return Figure(name, sorted(ready)[1], None, "s", "< 2")


def _run(*command: str, env: dict[str, str] | None = None) -> None:
    subprocess.run(command, env=env, capture_output=True, check=True)
