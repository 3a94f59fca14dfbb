"""Where the readers of files come from: one process that has loaded what reading takes, and forks
for each file.
"""

from __future__ import annotations

import atexit
import os
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import BinaryIO


@dataclass(frozen=True, slots=True)
class FileLimits:
    """What reading one file may take."""

    memory_bytes: int = 2_000_000_000
    seconds: float = 180


@dataclass(slots=True)
class Reader:
    """One reading: the pipe that it hears, the pipe that it speaks into, and its end."""

    number: int
    asks: BinaryIO
    answers: BinaryIO
    house: ReaderHouse
    ended: bool = False

    def end(self) -> None:
        """Have it killed, whatever it is doing. Only once: then its number may be another's."""
        if not self.ended:
            self.ended = True
            self.house.end(self.number)


@dataclass(slots=True)
class ReaderHouse:
    """The process that forks the readers; begun when the first file comes, begun again when it
    died.
    """

    _process: subprocess.Popen[bytes] | None = None
    _line: socket.socket | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def __post_init__(self) -> None:
        atexit.register(self.close)

    @contextmanager
    def reader(self) -> Iterator[Reader]:
        """A reader that waits for its file; it is ended in any case."""
        hears, asks = os.pipe()
        answers, speaks = os.pipe()
        with open(asks, "wb") as asking, open(answers, "rb") as answering:
            try:
                number = self._begun(hears, speaks)
            finally:
                os.close(hears)
                os.close(speaks)
            reader = Reader(number, asking, answering, self)
            try:
                yield reader
            finally:
                reader.end()
                with suppress(OSError):
                    asking.close()

    def get_ready(self) -> None:
        """Begin now what the first file would wait for."""
        with self._lock, suppress(OSError):
            self._open_line()

    def end(self, number: int) -> None:
        """Kill the reader with that number."""
        with self._lock, suppress(OSError):
            if self._line is not None:
                self._line.sendall(f"{number}\n".encode())

    def close(self) -> None:
        """End the house with its readers."""
        with self._lock:
            self._close()

    def _begun(self, hears: int, speaks: int) -> int:
        with self._lock:
            for _ in range(2):
                number = self._asked(hears, speaks)
                if number:
                    return number
                self._close()
        raise RuntimeError("no process that reads files can be started")

    def _asked(self, hears: int, speaks: int) -> int:
        """The number of a new reader; 0 where the house does not answer."""
        with suppress(OSError):
            line = self._open_line()
            socket.send_fds(line, [b"read\n"], [hears, speaks])
            return int(line.recv(32) or b"0")
        return 0

    def _open_line(self) -> socket.socket:
        if self._line is None:
            self._line, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            with theirs:
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "sortitor.operations.file_reader"],
                    stdin=theirs.fileno(),
                    stdout=subprocess.DEVNULL,
                    # An allocator that gives up prints pages of nothing.
                    stderr=subprocess.DEVNULL,
                    cwd="/",
                )
        return self._line

    def _close(self) -> None:
        if self._line is not None:
            self._line.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._line = self._process = None


#: The one of this process.
house = ReaderHouse()
