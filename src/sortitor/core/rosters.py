"""Rosters: what a system says of devices, people and groups, cleaned as a lot's cells are, so that
the same device is found by the same number whoever names it.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import polars as pl

from sortitor.core import identifiers
from sortitor.core.lots.fields import check_field
from sortitor.core.vocabulary import IdentifierKind

#: By what a roster may name a device, strongest first.
NUMBERS: dict[str, IdentifierKind] = {
    "serial": IdentifierKind.SERIAL,
    "imei": IdentifierKind.IMEI,
    "imei2": IdentifierKind.IMEI,
    "uuid": IdentifierKind.UUID,
    "mac": IdentifierKind.MAC,
}
#: What else it may say; `person` is a user name or mail address.
FACTS = ("maker", "model", "platform", "order_name", "person", "site", "name")
DEVICE_COLUMNS = ("key", *NUMBERS, *FACTS)
PERSON_COLUMNS = ("key", "user_name", "name", "mail", "department", "site")
_MOST_CHARACTERS = 500

DEVICE_SCHEMA = {
    **dict.fromkeys(DEVICE_COLUMNS, pl.String),
    "extra": pl.String,
}
PERSON_SCHEMA = {
    **dict.fromkeys(PERSON_COLUMNS, pl.String),
    "place": pl.String,
    "left": pl.Boolean,
}
GROUP_SCHEMA = {"key": pl.String, "name": pl.String, "place": pl.String}
MEMBER_SCHEMA = {"group_key": pl.String, "place": pl.String}


@dataclass(frozen=True, slots=True)
class Remarked:
    """One thing that a run leaves out or takes with a doubt, with how many lines it concerns."""

    code: str
    words: str
    count: int
    examples: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Told:
    """What a source said in one run.

    devices, people, groups, members: frames of the schemas above; None for what it was not asked
        about
    whole:  whether it said everything, so that what is missing is gone
    gone:   keys of devices that it says are gone
    cursor: where the next run goes on
    """

    whole: bool
    devices: pl.DataFrame | None = None
    people: pl.DataFrame | None = None
    groups: pl.DataFrame | None = None
    members: pl.DataFrame | None = None
    gone: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema={"key": pl.String}))
    cursor: str | None = None
    etag: str | None = None
    #: Of an issuer: its public keys by their numbers.
    keys: Mapping[str, Mapping[str, Any]] | None = None
    remarks: tuple[Remarked, ...] = ()


def devices_of(
    given: pl.DataFrame, extra: Sequence[Mapping[str, Any]] | None = None
) -> tuple[pl.DataFrame, tuple[Remarked, ...]]:
    """Lines of a roster in DEVICE_SCHEMA, cleaned, and what was left out.

    given: text columns of DEVICE_COLUMNS, any but `key` may be missing; extra: what else each line
    says, for whoever looks at it. Of lines of one key the last counts.
    """
    frame = given.with_row_index("line")
    remarks: list[Remarked] = []
    columns: dict[str, pl.Series] = {"key": _text(frame, "key")}
    for column, kind in NUMBERS.items():
        cells = _text(frame, column)
        checked = identifiers.CHECKS[kind](cells)
        columns[column] = checked["value"]
        remarks += _unreadable(column, cells, checked["value"])
    for column in FACTS:
        columns[column] = _fact(column, _text(frame, column))
    told = pl.DataFrame({**columns, "extra": _extra(extra, frame.height)})
    kept, more = by_key(told)
    return kept.select(DEVICE_SCHEMA.keys()), (*remarks, *more)


def by_key(told: pl.DataFrame) -> tuple[pl.DataFrame, tuple[Remarked, ...]]:
    """Each key once, its last line; and how many had none, or came again."""
    keyed = told.drop_nulls("key")
    kept = keyed.unique("key", keep="last", maintain_order=True)
    found = (
        Remarked("no_key", "lines that carry no number of their own", told.height - keyed.height),
        Remarked("key_twice", "lines of a number that came again", keyed.height - kept.height),
    )
    return kept, tuple(one for one in found if one.count)


def _text(frame: pl.DataFrame, column: str) -> pl.Series:
    """A column as trimmed text without control characters, or nothing."""
    if column not in frame.columns:
        return pl.repeat(None, frame.height, dtype=pl.String, eager=True).alias(column)
    cells = frame[column].cast(pl.String).str.replace_all(r"\p{Cc}+", " ").str.strip_chars()
    return cells.str.slice(0, _MOST_CHARACTERS).replace("", None).alias(column)


def _fact(column: str, cells: pl.Series) -> pl.Series:
    """A fact as a lot would take it; a platform that nobody knows is none."""
    if column == "person":
        return cells.str.to_lowercase()
    return check_field(column, cells)["value"]


def _unreadable(column: str, given: pl.Series, value: pl.Series) -> Iterable[Remarked]:
    bad = given.filter(given.is_not_null() & value.is_null())
    if bad.len():
        words = f"cells of “{column}” that cannot be such a number"
        yield Remarked("unreadable", words, bad.len(), tuple(bad.head(3)))


def _extra(extra: Sequence[Mapping[str, Any]] | None, height: int) -> pl.Series:
    if extra is None:
        return pl.repeat("{}", height, dtype=pl.String, eager=True)
    return pl.Series([json.dumps(one, sort_keys=True) for one in extra], dtype=pl.String)


def people_of(given: pl.DataFrame) -> tuple[pl.DataFrame, tuple[Remarked, ...]]:
    """People of a directory in PERSON_SCHEMA: who has no key or no user name is left out, and of
    several of one user name the first counts.
    """
    remarks = []
    told = given.with_columns(_text(given, name) for name in PERSON_COLUMNS)
    told = told.with_columns(
        pl.col("user_name", "department", "site").str.normalize("NFC"),
        name=pl.coalesce("name", "user_name").str.normalize("NFC"),
        mail=pl.when(pl.col("mail").str.contains(r"^[^\s@]+@[^\s@]+$")).then(pl.col("mail")),
    )
    named = told.filter(
        pl.col("key").is_not_null()
        & pl.col("user_name").str.contains(r"^[^\s;,|]{1,100}$").fill_null(False)
    )
    if left := told.height - named.height:
        examples = told.join(named, on="key", how="anti", nulls_equal=True)["place"].head(3)
        remarks.append(
            Remarked("no_user_name", "entries without a usable user name", left, tuple(examples))
        )
    kept = named.unique("key", keep="first", maintain_order=True)
    folded = pl.col("user_name").str.to_lowercase()
    once = kept.filter(folded.is_first_distinct())
    if twice := kept.height - once.height:
        examples = kept.filter(~folded.is_first_distinct())["place"].head(3)
        remarks.append(
            Remarked(
                "user_name_twice", "entries whose user name another one has", twice, tuple(examples)
            )
        )
    return once.select(PERSON_SCHEMA.keys()), tuple(remarks)


def groups_of(given: pl.DataFrame) -> tuple[pl.DataFrame, tuple[Remarked, ...]]:
    """Groups of a directory in GROUP_SCHEMA; of several of one name the first counts."""
    told = given.with_columns(_text(given, "key"), _text(given, "name").str.normalize("NFC"))
    named = told.drop_nulls(["key", "name"]).unique("key", keep="first", maintain_order=True)
    once = named.filter(pl.col("name").str.to_lowercase().is_first_distinct())
    left = told.height - once.height
    words = "groups without a name, or of a name that another one has"
    examples = told.join(once, on="key", how="anti", nulls_equal=True)["place"].head(3)
    remark = Remarked("group_left_out", words, left, tuple(examples))
    return once.select(GROUP_SCHEMA.keys()), (remark,) if left else ()
