"""Ending in good order, whenever a signal comes."""

from __future__ import annotations

import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager


class _Ending:
    """What SIGINT and SIGTERM do: they end the process with 0.

    Never in the midst of loading a module, since one that is not written in Python aborts where an
    exit comes out of what it calls. And an exit can be lost, where it comes out of a callback that
    nobody looks after; so it is remembered, and looked for wherever something is waited for.
    """

    def __init__(self) -> None:
        self._loading = self._asked = False

    def _heard(self, *_: object) -> None:
        self._asked = True
        if not self._loading:
            sys.exit(0)

    def on_signals(self) -> None:
        """End in good order from now on: what was begun is closed, the database stopped. (uvicorn
        raises the signal again once it is done.)
        """
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._heard)

    @contextmanager
    def later(self) -> Iterator[None]:
        """End only after this."""
        self._loading = True
        try:
            yield
        finally:
            self._loading = False
        self.look()

    def look(self) -> None:
        """End now, if that was asked for."""
        if self._asked:
            sys.exit(0)


ending = _Ending()
