"""How long a person waits for the command line and for a start."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from tempfile import mkdtemp

from tests.processes import SORTITOR, serve

from bench.figures import Figure, timed, typical
from sortitor.server.postgres import Cluster


def measure(_: Cluster) -> list[Figure]:
    """`--help` against importing click alone; a start on an existing cluster."""
    run = lambda *command: subprocess.run(command, capture_output=True, check=True)  # noqa: E731
    help_seconds = typical(lambda: run(SORTITOR, "--help"), 15)
    click_seconds = typical(lambda: run(sys.executable, "-c", "import click"), 15)
    state = Path(mkdtemp(prefix="sortitor-bench-"))
    state.chmod(0o755)
    with serve(SORTITOR_STATE_DIR=str(state)):
        pass

    ready = []
    for _i in range(3):
        holder = serve(SORTITOR_STATE_DIR=str(state))
        ready.append(timed(holder.__enter__))
        holder.__exit__(None, None, None)
    return [
        Figure(
            "sortitor --help / python -c 'import click'", help_seconds, click_seconds, "s", "≤ 2"
        ),
        Figure(
            "sortitor serve to ready on an existing cluster", sorted(ready)[1], None, "s", "< 3"
        ),
    ]
