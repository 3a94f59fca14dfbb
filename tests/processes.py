"""The service as processes of its own, to race and to kill."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

SORTITOR = Path(sys.executable).parent / "sortitor"


class Process:
    """`sortitor serve` on a free port; `url` is its address."""

    def __init__(self, **environment: str) -> None:
        self.environment = {
            **os.environ,
            "SORTITOR_PORT": "0",
            "SORTITOR_LOG_LEVEL": "error",
            # Trying whether another user could run it takes half a second; one test has it.
            "SORTITOR_RUN_AS": "",
            **environment,
        }
        self.start()

    def start(self) -> None:
        """Start it (again) by the same command, and wait until it is ready."""
        with tempfile.NamedTemporaryFile("w+", suffix=".log") as log:
            self.process = subprocess.Popen(
                [SORTITOR, "serve"], env=self.environment, stdout=log, stderr=log, text=True
            )
            until = time.monotonic() + 60
            while time.monotonic() < until and self.process.poll() is None:
                if found := re.search(r"ready at (http://\S+)", Path(log.name).read_text()):
                    self.url = found[1]
                    return
                time.sleep(0.02)
            raise AssertionError(f"the service did not start: {Path(log.name).read_text()}")

    def kill(self) -> None:
        """As `kill -9` does."""
        self.process.kill()
        self.process.wait(30)

    def stop(self) -> None:
        """As Ctrl-C does."""
        self.process.terminate()
        self.process.wait(60)


@contextmanager
def serve(**environment: str) -> Iterator[Process]:
    """A process that is stopped at the end, whatever happened to it."""
    process = Process(**environment)
    try:
        yield process
    finally:
        if process.process.poll() is None:
            process.stop()
