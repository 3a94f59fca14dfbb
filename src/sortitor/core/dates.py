"""Dates as people write them: a column is read as a whole, since only the whole says whether the
day or the month comes first.
"""

from __future__ import annotations

import calendar
import re
import unicodedata
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cache
from typing import Literal

import polars as pl
from babel.dates import get_day_names, get_month_names

Order = Literal["day", "month"]
#: No device of today was bought before.
EARLIEST = date(1990, 1, 1)
_LANGUAGES = (
    "en",
    "de",
    "fr",
    "es",
    "it",
    "pl",
    "tr",
    "nl",
    "pt",
    "sv",
    "da",
    "nb",
    "fi",
    "cs",
    "ru",
)
_LONGEST = 60
#: A spreadsheet counts days from here (ECMA-376 part 1, 18.17.4.1).
_DAY_ZERO = date(1899, 12, 30)
_ISO = r"^(19|20)\d\d-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:?\d\d)?)?$"
_TIME = re.compile(
    r"[T ,]+\d{1,2}[:.h]\d{2}(:\d{2}([.,]\d+)?)?\s*([ap]\.?m\.?|z|uhr|utc|gmt|[+-]\d\d:?\d\d)?$",
    re.I,
)
_NUMBERS = re.compile(r"(\d{1,4})\s*([./\-_ ])\s*(\d{1,2})\s*[./\-_ ]\s*(\d{1,4})\.?")


@dataclass(frozen=True, slots=True)
class Read:
    """What a text may mean: the date with the day first, with the month first, and a note."""

    day_first: date | None = None
    month_first: date | None = None
    note: str | None = None

    @property
    def only(self) -> date | None:
        """The one date it can be; None where it may be two."""
        if self.day_first is None or self.month_first is None:
            return self.day_first or self.month_first
        return self.day_first if self.day_first == self.month_first else None

    def by(self, order: Order | None) -> date | None:
        """The date under this order; the only one it can be, whatever the order."""
        chosen = {"day": self.day_first, "month": self.month_first}.get(order or "")
        return self.only or chosen


def read_dates(
    cells: pl.Series, today: date, *, ends: bool = False, order: Order | None = None
) -> tuple[pl.DataFrame, Order | None]:
    """Columns `value` (ISO 8601) and `note`, and the order that the column itself proves.

    ends:  these are the ends of something, which may lie years ahead
    order: what holds where the column proves nothing; None: an open date is noted and left out
    """
    plain = cells.str.contains(_ISO)
    found = pl.DataFrame({"cell": cells.filter(~plain).drop_nulls().unique()})
    read = {text: read_date(text, today, ends) for text in found["cell"]}
    proven = _proven(read)
    used = proven or order
    latest = today + timedelta(days=365 * 15 if ends else 366)
    parsed = pl.DataFrame(
        [(text, *_judged(one, used, latest)) for text, one in read.items()],
        schema={"cell": pl.String, "value": pl.String, "note": pl.String},
        orient="row",
    )
    iso = cells.str.head(10).str.to_date("%Y-%m-%d", strict=False)
    far = (iso < EARLIEST) | (iso > latest)
    frame = pl.DataFrame({"cell": cells, "iso": iso.set(~plain.fill_null(False), None), "far": far})
    if parsed.height:
        frame = frame.join(parsed, on="cell", how="left", maintain_order="left")
    else:
        frame = frame.with_columns(value=pl.lit(None, pl.String), note=pl.lit(None, pl.String))
    is_plain = pl.col("cell").str.contains(_ISO)
    return frame.select(
        value=pl.when(is_plain & ~pl.col("far"))
        .then(pl.col("iso").dt.to_string("%Y-%m-%d"))
        .otherwise("value"),
        note=pl.when(is_plain & pl.col("iso").is_null())
        .then(pl.lit("date_unreadable"))
        .when(is_plain & pl.col("far"))
        .then(pl.lit("date_unlikely"))
        .otherwise("note"),
    ), proven


def _proven(read: dict[str, Read]) -> Order | None:
    """The order that some dates of the column have and none contradicts."""
    days = any(one.day_first and not one.month_first for one in read.values())
    months = any(one.month_first and not one.day_first for one in read.values())
    return None if days == months else "day" if days else "month"


def _judged(read: Read, order: Order | None, latest: date) -> tuple[str | None, str | None]:
    if read.day_first is None and read.month_first is None:
        return None, "date_unreadable"
    found = read.by(order)
    if found is None:
        return None, "date_order_open"
    if not EARLIEST <= found <= latest:
        return None, "date_unlikely"
    ordered = read.note or ("date_by_order" if read.only is None else None)
    return found.isoformat(), ordered


def read_date(text: str, today: date, ends: bool = False) -> Read:
    """What one text may mean; nothing where it is no date."""
    if len(text) > _LONGEST:
        return Read()
    plain = _plain(text)
    if found := re.fullmatch(r"(\d{5})(?:\.\d+)?", plain):
        day = _DAY_ZERO + timedelta(days=int(found[1]))
        return Read(day, day, "date_from_number") if day >= EARLIEST else Read()
    if re.fullmatch(r"(19|20)\d{6}", plain):
        return _sure(_made(int(plain[:4]), int(plain[4:6]), int(plain[6:])))
    if found := _NUMBERS.fullmatch(plain):
        return _numbers(found, today)
    return _month_only(plain, ends) or _with_name(plain, today, ends)


def is_date(text: str) -> bool:
    """Whether a text can be a date, whatever the order of its parts."""
    read = read_date(text, EARLIEST)
    return read.day_first is not None or read.month_first is not None


def _plain(text: str) -> str:
    plain = unicodedata.normalize("NFKC", text).strip().strip("'\"").casefold()
    plain = "".join(
        str(unicodedata.digit(mark)) if mark.isdigit() and not mark.isascii() else mark
        for mark in plain
        if unicodedata.category(mark) not in ("Cf", "Cc")
    )
    plain = re.sub(r"(\d+)\s*年\s*(\d+)\s*月\s*(\d+)\s*日?", r"\1-\2-\3", plain)
    plain = _TIME.sub("", plain)
    return re.sub(r"\s+", " ", plain).strip()


def _numbers(found: re.Match[str], today: date) -> Read:
    first, second, third = int(found[1]), int(found[3]), int(found[4])
    if len(found[1]) == 4:
        return _sure(_made(first, second, third)) if len(found[4]) <= 2 else Read()
    if len(found[4]) == 3 or len(found[1]) == 3:
        return Read()
    year = third if len(found[4]) == 4 else _whole_year(third, today)
    day_first = _made(year, second, first)
    # A point stands behind a day, never behind a month.
    return Read(day_first, day_first if found[2] == "." else _made(year, first, second))


def _sure(day: date | None) -> Read:
    return Read(day, day)


def _whole_year(two_digits: int, today: date) -> int:
    return two_digits + (2000 if two_digits <= today.year - 2000 + 20 else 1900)


def _made(year: int, month: int, day: int) -> date | None:
    try:
        return date(year, month, day)
    except ValueError:
        return None


def _month_only(plain: str, ends: bool) -> Read | None:
    numbers = re.fullmatch(r"(\d{1,2})[./-](\d{4})", plain)
    turned = re.fullmatch(r"(\d{4})[./-](\d{1,2})", plain)
    if numbers:
        return _of_month(int(numbers[2]), int(numbers[1]), ends)
    return _of_month(int(turned[1]), int(turned[2]), ends) if turned else None


def _of_month(year: int, month: int, ends: bool) -> Read:
    if not 1 <= month <= 12 or year < 1:
        return Read()
    day = date(year, month, calendar.monthrange(year, month)[1] if ends else 1)
    return Read(day, day, "date_month_only")


def _with_name(plain: str, today: date, ends: bool) -> Read:
    words = [word for word in re.split(r"[\s.,/\-']+", plain) if word]
    words = [word for word in words if word not in _day_names() and word not in _LITTLE]
    words = [re.sub(r"^(\d{1,2})(st|nd|rd|th|er|e|º|ª)$", r"\1", word) for word in words]
    named = [place for place, word in enumerate(words) if word in _month_names()]
    numbers = [int(word) for word in words if re.fullmatch(r"\d{1,4}", word)]
    if len(named) != 1 or len(numbers) != len(words) - 1 or len(words) not in (2, 3):
        return Read()
    month = _month_names()[words[named[0]]]
    if len(numbers) == 1:
        return _of_month(numbers[0], month, ends) if numbers[0] > 1000 else Read()
    first, last = numbers
    if first > 1000:
        return _sure(_made(first, month, last))
    return _sure(_made(last if last > 1000 else _whole_year(last, today), month, first))


#: What stands between the words of a date.
_LITTLE = frozenset(("de", "of", "the", "del", "di", "den", "der", "le", "am", "r", "г"))


@cache
def _month_names() -> dict[str, int]:
    return {
        _bare(name): number
        for language in _LANGUAGES
        for width in ("wide", "abbreviated")
        for context in ("format", "stand-alone")
        for number, name in get_month_names(width, context, language).items()
    } | {"sept": 9, "mrz": 3, "okt": 10, "dez": 12, "mai": 5, "maerz": 3}


@cache
def _day_names() -> frozenset[str]:
    return frozenset(
        _bare(name)
        for language in _LANGUAGES
        for width in ("wide", "abbreviated")
        for name in get_day_names(width, "format", language).values()
        if not name.isdigit()
    ) - set(_month_names())


def _bare(name: str) -> str:
    return unicodedata.normalize("NFKC", name).casefold().strip(". ")
