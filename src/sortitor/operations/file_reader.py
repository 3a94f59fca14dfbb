"""The process that forks a reader for each stranger's file: a line of JSON and the file come in, a
line of JSON and the rows (Arrow) go out. The reader ends with its file.
"""

from __future__ import annotations

import io
import json
import os
import resource
import signal
import socket
import sys
from dataclasses import asdict
from typing import Any

import fastexcel  # noqa: F401 - loaded before a file waits
import polars as pl

from sortitor.core.errors import BadInput, Unsupported
from sortitor.core.manifests import Manifest, read_paste, read_table, reading_of


def main() -> None:
    """Fork a reader for each message that brings two pipes; end the reader that a message names.
    When the other end of the line is closed, end them all.
    """
    line = socket.socket(fileno=os.dup(0))
    readers: set[int] = set()
    while True:
        message, pipes, _, _ = socket.recv_fds(line, 32, 2)
        if pipes:
            readers.add(number := _forked(line, pipes))
            line.sendall(str(number).encode())
        elif message:
            _end(int(message), readers)
        else:
            break
    for number in list(readers):
        _end(number, readers)


def _forked(line: socket.socket, pipes: list[int]) -> int:
    number = os.fork()
    if number == 0:
        try:
            line.close()
            for place, pipe in enumerate(pipes):
                os.dup2(pipe, place)
                os.close(pipe)
            _read()
            sys.stdout.buffer.flush()
        finally:
            os._exit(0)
    for pipe in pipes:
        os.close(pipe)
    return number


def _end(number: int, readers: set[int]) -> None:
    """Only a child that was not waited for yet: its number belongs to nobody else."""
    if number in readers:
        readers.remove(number)
        os.kill(number, signal.SIGKILL)
        os.waitpid(number, 0)


def _read() -> None:
    asked = json.loads(sys.stdin.buffer.readline() or b"null")
    if asked is None:
        return
    _bound(asked["memory_bytes"], asked["seconds"])
    content = sys.stdin.buffer.read()
    try:
        if asked["form"] == "paste":
            found = read_paste(content)
        else:
            found = read_table(content, reading_of(asked["reading"]))
    except MemoryError:
        # The parent says what it says of a reader that said nothing.
        return
    except Exception as error:  # noqa: BLE001 - whatever it is, the sender hears that it is the file
        _tell_fault(error if isinstance(error, BadInput) else _unreadable(error))
        return
    _hand_over(found)


def _unreadable(error: Exception) -> BadInput:
    return Unsupported(
        "unreadable_file",
        f"The file is damaged, or of a kind that is not read ({type(error).__name__}).",
        "Export it again as CSV in UTF-8 or as XLSX.",
    )


def _tell_fault(error: BadInput) -> None:
    _tell(
        {
            "kind": type(error).__name__,
            "code": error.code,
            "detail": error.detail,
            "remedy": error.remedy,
            "problems": [asdict(problem) for problem in error.problems],
        }
    )


def _bound(memory_bytes: int, seconds: float) -> None:
    """Limits beyond what the process has by itself."""
    with open("/proc/self/status") as status:
        words = dict(line.split(":", 1) for line in status)
    own = int(words["VmData"].split()[0]) * 1024
    resource.setrlimit(resource.RLIMIT_DATA, (own + memory_bytes, own + memory_bytes))
    processor = int(seconds * 2) + 1
    resource.setrlimit(resource.RLIMIT_CPU, (processor, processor))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # It writes no file.
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))


def _hand_over(found: Manifest) -> None:
    told = {
        "headers": found.headers,
        "layout": found.layout,
        "encoding": found.encoding,
        "sheet": found.sheet,
        "sheets": found.sheets,
        "header_row": found.header_row,
        "above": found.above,
        "remarks": [asdict(remark) for remark in found.remarks],
    }
    frame = found.cells.insert_column(0, found.numbers.alias(_free_name(found.cells)))
    buffer = io.BytesIO()
    frame.write_ipc(buffer, compat_level=pl.CompatLevel.newest())
    _tell(told)
    sys.stdout.buffer.write(buffer.getbuffer())
    sys.stdout.buffer.flush()


def _free_name(cells: pl.DataFrame) -> str:
    """A name that no column has."""
    return max(cells.columns, key=len, default="") + " number"


def _tell(head: dict[str, Any]) -> None:
    sys.stdout.buffer.write(json.dumps(head).encode() + b"\n")
    sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
