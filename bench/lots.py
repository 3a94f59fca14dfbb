"""Lots: from a file to applied devices, against plain COPY of the same file into a table of the
same shape and indexes.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from datetime import date
from pathlib import Path
from random import Random
from statistics import quantiles
from tempfile import TemporaryDirectory
from typing import Self

import polars as pl
import psycopg

from bench.figures import Figure, peak_megabytes, service, timed, typical
from sortitor.client import Sortitor
from sortitor.core import lots as core
from sortitor.core.manifests import read_table
from sortitor.core.vocabulary import Verdict
from sortitor.server.postgres import Cluster
from sortitor.stand_ins import numbers

HEADERS = (
    "serial",
    "imei",
    "maker",
    "model",
    "site",
    "order",
    "supplier",
    "purchased on",
    "warranty until",
    "note",
)

#: The day on which the files are read.
_TODAY = date(2026, 11, 26)


def write(path: Path, rows: int) -> None:
    """A manifest of ten columns with a serial number and an IMEI in every row."""
    random = Random(rows)
    bodies = random.sample(range(10_000_000, 99_999_999), rows)
    frame = pl.DataFrame({"n": bodies}).with_columns(
        serial=pl.lit("KM") + pl.col("n").cast(pl.String),
        imei=pl.Series([numbers.completed(f"001000{body}") for body in bodies]),
        maker=pl.lit("Kelmar"),
        model=pl.lit("Deckhand ") + (pl.col("n") % 20).cast(pl.String),
        site=pl.lit("Quay ") + (pl.col("n") % 40).cast(pl.String),
        order=pl.lit("WL-") + (pl.col("n") % 500).cast(pl.String),
        supplier=pl.lit("Chandlers"),
        **{
            "purchased on": pl.lit("2026-01-09"),
            "warranty until": pl.lit("2029-01-09"),
            "note": pl.lit("pallet ") + pl.col("n").cast(pl.String),
        },
    )
    frame.select(HEADERS).write_csv(path)


def floor(url: str, path: Path) -> float:
    """Seconds for COPY of the file into one table with the two unique indexes, a key and the search
    by ending.
    """
    with psycopg.connect(url) as connection, path.open("rb") as file:
        connection.execute(
            "CREATE TABLE plain (id bigserial PRIMARY KEY, "
            + ", ".join(f'"{h}" text' for h in HEADERS)
            + ")"
        )
        connection.execute("CREATE UNIQUE INDEX ON plain (serial, maker)")
        connection.execute("CREATE UNIQUE INDEX ON plain (imei)")
        connection.execute("CREATE INDEX ON plain (reverse(serial) text_pattern_ops)")
        connection.execute("CREATE INDEX ON plain (reverse(imei) text_pattern_ops)")

        def copy() -> None:
            columns = ", ".join(f'"{h}"' for h in HEADERS)
            with (
                connection.cursor() as cursor,
                cursor.copy(f"COPY plain ({columns}) FROM STDIN (FORMAT csv, HEADER)") as copying,
            ):
                while part := file.read(1 << 20):
                    copying.write(part)
            connection.commit()

        return timed(copy)


def shaped_floor(url: str, path: Path) -> float:
    """Seconds for COPY of the same data into tables of the same shape and indexes as devices and
    identifiers.
    """
    frame = pl.read_csv(path, infer_schema=False)
    ids = pl.int_range(1, frame.height + 1, eager=True).alias("id")
    devices = frame.select(
        ids,
        "maker",
        "model",
        "site",
        "supplier",
        "note",
        order_name="order",
        purchased_on="purchased on",
        warranty_until="warranty until",
        stage=pl.lit("awaited"),
        stage_at=pl.lit("2026-01-01T00:00:00Z"),
        created_at=pl.lit("2026-01-01T00:00:00Z"),
        lot_id=pl.lit(1),
    )
    keys = pl.concat(
        [
            frame.select(
                value=pl.col("serial"),
                kind=pl.lit("serial"),
                maker=pl.lit("kelmar"),
                device_id=ids,
                given=pl.col("serial"),
            ),
            frame.select(
                value=pl.col("imei"),
                kind=pl.lit("imei"),
                maker=pl.lit(""),
                device_id=ids,
                given=pl.col("imei"),
            ),
        ]
    ).sort("value")
    texts = [
        (
            table,
            rows.columns,
            [
                part.write_csv(include_header=False, quote_style="necessary")
                for part in rows.iter_slices(50_000)
            ],
        )
        for table, rows in (("plain_devices", devices), ("plain_identifiers", keys))
    ]
    with psycopg.connect(url) as connection:
        connection.execute("CREATE TABLE plain_devices (LIKE devices INCLUDING ALL)")
        connection.execute("CREATE TABLE plain_identifiers (LIKE identifiers INCLUDING ALL)")

        def copy() -> None:
            for table, columns, parts in texts:
                with (
                    connection.cursor() as cursor,
                    cursor.copy(
                        f"COPY {table} ({', '.join(columns)}) FROM STDIN (FORMAT csv)"
                    ) as copying,
                ):
                    for part in parts:
                        copying.write(part)
            connection.commit()

        seconds = timed(copy)
        connection.execute("DROP TABLE plain_devices, plain_identifiers")
    return seconds


class Meanwhile:
    """Reads a device page again and again while something large happens; knows how long it took."""

    def __init__(self, s: Sortitor, device_id: int) -> None:
        self.seconds: list[float] = []
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._look, args=(s, device_id))

    def _look(self, s: Sortitor, device_id: int) -> None:
        while not self._over.is_set():
            self.seconds.append(timed(lambda: s.devices.show(device_id)))
            time.sleep(0.05)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()

    def p95_milliseconds(self) -> float:
        """The 95th of 100."""
        return quantiles(self.seconds, n=20)[-1] * 1000


def whole(cluster: Cluster, folder: str, rows: int) -> tuple[float, float, list[Figure]]:
    """Seconds from upload to applied, seconds of the floor, and the figures beside."""
    with (
        service(cluster, f"bench_lots_{rows}") as (process, s, url),
        Sortitor(process.url, s._transport.http.headers["authorization"].split()[1]) as reader,
    ):
        path = Path(folder) / f"{rows}.csv"
        write(path, rows)
        floor_seconds = shaped_floor(url, path)
        first = s.lots.check(paste="BENCH-0001", add_unknown=True)
        s.lots.apply(first.id, s.lots.preview(first.id).digest)
        device_id = next(iter(s.devices.list())).id
        phases = {}
        with Meanwhile(reader, device_id) as meanwhile:
            started = time.perf_counter()
            lot = s.lots.check(path, watch=lambda job: None)
            phases["check"] = time.perf_counter() - started
            digest = s.lots.preview(lot.id).digest
            phases["preview"] = time.perf_counter() - started - phases["check"]
            s.lots.apply(lot.id, digest, watch=lambda job: None)
            total = time.perf_counter() - started
        deep = http_page(reader, lot.id)
        undo = timed(
            lambda: s.lots.revert(
                lot.id, s.lots.preview_revert(lot.id).digest, watch=lambda job: None
            )
        )
        memory = peak_megabytes(process)
    words = ", ".join(f"{name} {seconds:.1f}" for name, seconds in phases.items())
    what = f"lot of {rows:,}"
    return (
        total,
        floor_seconds,
        [
            Figure(
                f"{what}: upload to applied / COPY into such tables",
                total,
                floor_seconds,
                "s",
                "≤ 2",
                words,
            ),
            Figure(
                f"{what}: device page meanwhile, p95",
                meanwhile.p95_milliseconds(),
                None,
                "ms",
                "< 300",
                f"{len(meanwhile.seconds)} readings",
            ),
            Figure(f"{what}: page of rows, slowest of the pages tried", deep, None, "ms", "< 200"),
            Figure(f"{what}: revert with preview / COPY", undo, floor_seconds, "s", ""),
            Figure(f"{what}: peak memory of the service", memory, None, "MB", "< 1500"),
        ],
    )


def http_page(s: Sortitor, lot_id: int) -> float:
    """Milliseconds of the slowest page: the first, one deep in the lot, rejects among a million."""
    pages: list[Callable[[], object]] = [
        lambda: list(s.lots.rows(lot_id, most=100)),
        lambda: list(s.lots.rows(lot_id, Verdict.REJECT, most=100)),
        lambda: s.lots.notes(lot_id),
        lambda: list(s.lots.list(most=50)),
    ]
    return max(typical(page, 5) for page in pages) * 1000


def core_rate(folder: str) -> Figure:
    """Rows a second of the check in core alone: prepare and decide, no fleet."""
    path = Path(folder) / "core.csv"
    write(path, 300_000)
    manifest = read_table(path.read_bytes())
    meaning = core.meaning_of(manifest)[0]

    def checked() -> None:
        prepared = core.prepare(manifest, meaning, {}, _TODAY)
        core.decide(prepared, core.nothing_known())

    seconds = typical(checked, 3)
    return Figure(
        "core: rows checked per second (serial and IMEI, ten columns)",
        300_000 / seconds,
        None,
        "1/s",
        "≥ 300,000",
    )


def workbook(cluster: Cluster, folder: str, rows: int) -> list[Figure]:
    """The same from an XLSX file."""
    source, path = Path(folder) / "x.csv", Path(folder) / "x.xlsx"
    write(source, rows)
    pl.read_csv(source, infer_schema=False).write_excel(path)
    with service(cluster, "bench_workbook") as (_, s, url):
        floor_seconds = shaped_floor(url, source)

        def from_upload_to_applied() -> None:
            lot = s.lots.check(path, watch=lambda job: None)
            s.lots.apply(lot.id, s.lots.preview(lot.id).digest, watch=lambda job: None)

        total = timed(from_upload_to_applied)
    return [
        Figure(
            f"workbook of {rows:,}: upload to applied / COPY into such tables",
            total,
            floor_seconds,
            "s",
            "",
        )
    ]


def measure_large(cluster: Cluster) -> list[Figure]:
    """Ten thousand, a hundred thousand, a million rows; a workbook; the core alone."""
    with TemporaryDirectory() as folder:
        figures, totals = [core_rate(folder), *workbook(cluster, folder, 100_000)], {}
        for rows in (10_000, 100_000, 1_000_000):
            totals[rows], _, found = whole(cluster, folder, rows)
            figures += found
    growth = (totals[1_000_000] / 1_000_000) / (totals[100_000] / 100_000)
    return [
        *figures,
        Figure("growth per row from a hundred thousand to a million", growth, None, "", "≤ 1"),
    ]


def measure(cluster: Cluster, rows: int = 100_000) -> list[Figure]:
    """A lot checked and applied; its revert."""
    with TemporaryDirectory() as folder, service(cluster, "bench_lots") as (process, s, url):
        path = Path(folder) / "lot.csv"
        write(path, rows)
        plain = floor(url, path)
        lots: list[int] = []
        check = timed(lambda: lots.append(s.lots.check(path).id))
        preview = timed(lambda: s.lots.preview(lots[0]))
        digest = s.lots.preview(lots[0]).digest
        apply = timed(lambda: s.lots.apply(lots[0], digest))
        undo = timed(lambda: s.lots.revert(lots[0], s.lots.preview_revert(lots[0]).digest))
        memory = peak_megabytes(process)
    what = f"lot of {rows:,}"
    return [
        Figure(
            f"{what}: checked and applied / COPY",
            check + apply,
            plain,
            "s",
            "≤ 3",
            f"check {check:.1f}, apply {apply:.1f}",
        ),
        Figure(f"{what}: preview / COPY", preview, plain, "s", ""),
        Figure(f"{what}: revert with preview / COPY", undo, plain, "s", ""),
        Figure(f"{what}: peak memory of the service", memory, None, "MB", ""),
    ]
