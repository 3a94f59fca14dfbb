"""Each stranger's file is read by a process of its own, with limits on memory and time: whatever a
file does to its reader, the service goes on.
"""

from __future__ import annotations

import io
import json
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from hashlib import sha256
from typing import Any, Literal

import polars as pl
from cachetools import TTLCache, cached

from sortitor.core.errors import BadInput, FieldProblem, TooLarge, Unsupported
from sortitor.core.manifests import Manifest, Reading, lines_above, remarks_of
from sortitor.operations.file_readers import FileLimits, Reader, house

Form = Literal["table", "paste"]
_KINDS: dict[str, type[BadInput]] = {
    kind.__name__: kind for kind in (BadInput, TooLarge, Unsupported)
}
_LOOK_EVERY_SECONDS = 0.5
#: As many files at once; others wait for their turn.
_places = threading.BoundedSemaphore(2)


def read_file(
    content: bytes,
    form: Form,
    reading: Reading,
    limits: FileLimits,
    check_time: Callable[[], None] = lambda: None,
) -> Manifest:
    """The rows of a file, whatever its format. Raises BadInput, TooLarge or Unsupported; and what
    `check_time` raises while it waits.
    """
    request = _request(content, form, reading, limits)
    with _places, house.reader() as reader:
        said = _ask(reader, request, limits, check_time)
    return _understood(said, limits)


@cached(
    TTLCache(64_000_000, ttl=300, getsizeof=lambda read: read.cells.estimated_size()),
    key=lambda content, limits, _: (sha256(content).digest(), limits),
    lock=threading.Lock(),
)
def read_list(content: bytes, limits: FileLimits, check_time: Callable[[], None]) -> Manifest:
    """The rows of a table that is previewed and then applied: the same bytes are not read twice
    within five minutes. Arguments and errors as of `read_file`.
    """
    return read_file(content, "table", Reading(), limits, check_time)


def _request(content: bytes, form: Form, reading: Reading, limits: FileLimits) -> bytes:
    asked = {
        "form": form,
        "reading": asdict(reading),
        "memory_bytes": limits.memory_bytes,
        "seconds": limits.seconds,
    }
    return json.dumps(asked).encode() + b"\n" + content


def _ask(
    reader: Reader,
    request: bytes,
    limits: FileLimits,
    check_time: Callable[[], None],
) -> bytes:
    """What the reader says; nothing where it died or took too long. It is fed and heard on threads
    of their own: neither of its pipes may hold up the other.
    """
    said: list[bytes] = []
    feeding = threading.Thread(target=_feed, args=(reader, request), daemon=True)
    hearing = threading.Thread(target=_hear, args=(reader, said), daemon=True)
    until = time.monotonic() + limits.seconds
    feeding.start()
    hearing.start()
    try:
        hearing.join(_LOOK_EVERY_SECONDS)
        while hearing.is_alive() and time.monotonic() < until:
            check_time()
            hearing.join(_LOOK_EVERY_SECONDS)
        return said[0] if said else b""
    finally:
        reader.end()
        feeding.join()
        hearing.join()


def _feed(reader: Reader, request: bytes) -> None:
    with suppress(OSError), reader.asks as pipe:
        pipe.write(request)


def _hear(reader: Reader, said: list[bytes]) -> None:
    with suppress(OSError), reader.answers as pipe:
        said.append(pipe.read())


def _understood(said: bytes, limits: FileLimits) -> Manifest:
    head, _, rest = said.partition(b"\n")
    if not head:
        raise TooLarge(
            "file_too_heavy",
            f"Reading the file takes more than {limits.memory_bytes // 1_000_000:,} MB of memory"
            f" or {limits.seconds:g} seconds.",
            "Save only the rows that matter, as CSV, or split the file.",
        )
    told: dict[str, Any] = json.loads(head)
    if "kind" in told:
        problems = tuple(FieldProblem(**one) for one in told["problems"])
        raise _KINDS[told["kind"]](told["code"], told["detail"], told["remedy"], problems)
    frame = pl.read_ipc(io.BytesIO(rest))
    numbers = frame.to_series(0)
    told["headers"], told["sheets"] = tuple(told["headers"]), tuple(told["sheets"])
    told["above"], told["remarks"] = lines_above(told["above"]), remarks_of(told["remarks"])
    return Manifest(cells=frame.drop(numbers.name), numbers=numbers.alias(""), **told)
