"""Levelling the books: how the fleet and what other systems say of it disagree.

The meaning stands in `compare`; the store says the same in SQL for fleets of a million, and a
property test holds the two together. Near misses are found here alone.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher

import polars as pl

from sortitor.core.vocabulary import Gap, Stage
from sortitor.core.words import LABELS

#: What both sides may say of a device and is compared: field of a line → field of a device.
COMPARED = ("model", "order_name", "person", "site", "name")
#: Whose silence is an answer, too: a source that names a person knows more than a fleet that names
#: none.
_ONE_SIDED = ("person",)
#: So many rosters stand beside each other at most: a pattern is a number with a bit for each.
MOST_ROSTERS = 24
TITLES = LABELS[Gap]


@dataclass(frozen=True, slots=True)
class FleetDevice:
    """A device as the comparison sees it; `person` holds every name that its person goes by."""

    id: int
    stage: Stage
    model: str | None = None
    order_name: str | None = None
    person: Collection[str] = ()
    site: str | None = None
    name: str | None = None


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a roster: which device it is (None: nobody knows), and what it says."""

    key: str
    device_id: int | None = None
    said: Mapping[str, str | None] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Found:
    """One disagreement under its key, which stays over the runs."""

    key: str
    kind: Gap
    source_id: int
    device_id: int | None = None
    roster_key: str | None = None
    field: str | None = None
    ours: str | None = None
    theirs: str | None = None


def compare(
    fleet: Sequence[FleetDevice],
    rosters: Mapping[int, Sequence[Line]],
    covered: Mapping[int, Collection[int]],
) -> list[Found]:
    """Every disagreement, by key. covered: source → the devices that it should know."""
    found: list[Found] = []
    by_id = {device.id: device for device in fleet}
    for source_id, lines in rosters.items():
        of_device: dict[int, list[Line]] = defaultdict(list)
        for line in lines:
            if line.device_id is not None and line.device_id in by_id:
                of_device[line.device_id].append(line)
            else:
                key = f"unknown/{source_id}/{line.key}"
                found.append(Found(key, Gap.UNKNOWN, source_id, roster_key=line.key))
        for device_id in covered.get(source_id, ()):
            if device_id not in of_device and by_id[device_id].stage is not Stage.RETIRED:
                key = f"absent/{source_id}/{device_id}"
                found.append(Found(key, Gap.ABSENT, source_id, device_id))
        for device_id, its in of_device.items():
            found += _of_known(source_id, by_id[device_id], sorted(its, key=lambda one: one.key))
    return sorted(found, key=lambda one: one.key)


def _of_known(source_id: int, device: FleetDevice, lines: Sequence[Line]) -> Iterator[Found]:
    """What is to be said of a device that a source knows; of several lines the first by key
    speaks.
    """
    first = lines[0]
    if device.stage is Stage.RETIRED:
        key = f"alive/{source_id}/{device.id}"
        yield Found(key, Gap.ALIVE, source_id, device.id, first.key)
        return
    if len(lines) > 1:
        key = f"twice/{source_id}/{device.id}"
        yield Found(key, Gap.TWICE, source_id, device.id, first.key)
    for name in COMPARED:
        theirs = first.said.get(name)
        ours = getattr(device, name)
        if theirs is None or (name not in _ONE_SIDED and ours is None):
            continue
        same = [ours] if isinstance(ours, str) else list(ours)
        if theirs.lower() not in [one.lower() for one in same]:
            shown = ours if isinstance(ours, str) else next(iter(ours), None)
            key = f"differs/{source_id}/{device.id}/{name}"
            yield Found(key, Gap.DIFFERS, source_id, device.id, first.key, name, shown, theirs)


# ---- near misses

#: Characters that are taken for each other when a number is read from a label.
CONFUSED = {"O": "0", "I": "1", "S": "5", "B": "8", "Z": "2"}
#: How sure it is, in percent, that two numbers are one, by what tells them apart; and where several
#: devices are as near as each other.
CONFUSABLE, SWAPPED, ONE_MORE, ONE_OTHER, ONE_OF_SEVERAL = 95, 85, 75, 40, 20
_LEAST_CHARACTERS = 5


def near_misses(unknown: pl.DataFrame, missing: pl.DataFrame) -> pl.DataFrame:
    """Which device a line that nobody knows may be: `key, device_id, percent`, one line a key.

    unknown: `key, value`, serial numbers of lines without a device; missing: `device_id, value`,
    those of devices that the same source does not know.
    """
    long = pl.col("value").str.len_chars() >= _LEAST_CHARACTERS
    theirs = unknown.drop_nulls().filter(long).with_row_index("t")
    ours = missing.drop_nulls().filter(long).with_row_index("o")
    pairs = pl.concat(
        [
            _folded(theirs, ours).with_columns(percent=pl.lit(CONFUSABLE)),
            *_one_apart(theirs, ours),
        ]
    )
    best = pairs.group_by("t", "o").agg(pl.col("percent").max())
    top = best.filter(pl.col("percent") == pl.col("percent").max().over("t"))
    chosen = top.group_by("t").agg(pl.col("o").min(), pl.col("percent").first(), several=pl.len())
    return (
        chosen.join(theirs, on="t")
        .join(ours.select("o", "device_id"), on="o")
        .select(
            "key",
            "device_id",
            percent=pl.when(pl.col("several") > 1)
            .then(pl.lit(ONE_OF_SEVERAL))
            .otherwise(pl.col("percent"))
            .cast(pl.Int32),
        )
        .sort("key")
    )


def _folded(theirs: pl.DataFrame, ours: pl.DataFrame) -> pl.DataFrame:
    """Pairs that are one once characters that look alike are."""
    fold = pl.col("value").str.replace_many(list(CONFUSED), list(CONFUSED.values()))
    joined = theirs.with_columns(folded=fold).join(
        ours.with_columns(folded=fold), on="folded", suffix="_o"
    )
    return joined.filter(pl.col("value") != pl.col("value_o")).select("t", "o")


def _one_apart(theirs: pl.DataFrame, ours: pl.DataFrame) -> list[pl.DataFrame]:
    """Pairs that are one edit apart: what is left of both without one character is the same."""
    left, right = _without_one(theirs, "t"), _without_one(ours, "o")
    shared = left.join(right, on="rest", suffix="_o")
    other = shared.filter(pl.col("place") == pl.col("place_o"))
    neighbours = (pl.col("place") - pl.col("place_o")).abs() == 1
    swapped = shared.filter(neighbours & (pl.col("gone") == pl.col("gone_o")))
    more = left.join(ours.select("o", rest="value"), on="rest")
    fewer = theirs.select("t", rest="value").join(right, on="rest")
    same = theirs.join(ours, on="value").select("t", "o")
    return [
        frame.select("t", "o")
        .unique()
        .join(same, on=["t", "o"], how="anti")
        .with_columns(percent=pl.lit(percent))
        for frame, percent in (
            (other, ONE_OTHER),
            (swapped, SWAPPED),
            (more, ONE_MORE),
            (fewer, ONE_MORE),
        )
    ]


def _without_one(numbers: pl.DataFrame, name: str) -> pl.DataFrame:
    """Every number without each of its characters: `name, place, gone, rest`."""
    value, place = pl.col("value"), pl.col("place")
    each = numbers.select(
        name, "value", place=pl.int_ranges(0, value.str.len_chars().cast(pl.Int64))
    ).explode("place")
    rest = value.str.slice(0, place) + value.str.slice(place + 1)
    return each.select(name, "place", gone=value.str.slice(place, 1), rest=rest)


def marked(one: str, other: str) -> tuple[list[tuple[str, bool]], list[tuple[str, bool]]]:
    """Two numbers in pieces, each with whether it differs from the other, for whoever has to see
    it at a glance.
    """
    left: list[tuple[str, bool]] = []
    right: list[tuple[str, bool]] = []
    matcher = SequenceMatcher(None, one, other, autojunk=False)
    for tag, start, end, other_start, other_end in matcher.get_opcodes():
        differs = tag != "equal"
        if end > start:
            left.append((one[start:end], differs))
        if other_end > other_start:
            right.append((other[other_start:other_end], differs))
    return left, right
