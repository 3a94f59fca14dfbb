"""Device names composed by a template for many devices at once."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import polars as pl
from stdnum.iso7064 import mod_37_36

from sortitor.core.naming.templates import ALLOWED, LONGEST, SPECIAL, Piece, Template, parse
from sortitor.core.platforms import CATALOGUE
from sortitor.core.vocabulary import Platform

#: How often numbers are given anew where names are in use; and from when on those are looked
#: through. A template whose counter does not reach its name ends here.
_ROUNDS = 12
_PATIENT_ROUNDS = 4
_FOLDED = r"[^\x20-\x7E]"
_FILTERS: dict[str, Callable[[pl.Expr, int], pl.Expr]] = {
    "upper": lambda text, _: text.str.to_uppercase(),
    "lower": lambda text, _: text.str.to_lowercase(),
    "ascii": lambda text, _: text.str.normalize("NFKD").str.replace_all(_FOLDED, ""),
    "letters": lambda text, _: text.str.replace_all(r"\P{L}", ""),
    "digits": lambda text, _: text.str.replace_all(r"[^0-9]", ""),
    "first": lambda text, number: text.str.head(number),
    "last": lambda text, number: text.str.tail(number),
    "pad": lambda text, number: text.str.zfill(number),
}


class NamesInUse(Protocol):
    """Names that nobody can be given now, in lower case: other devices have them."""

    def among(self, names: pl.Series) -> pl.Series:
        """Those of these names that are in use."""

    def highest(self, form: str) -> int:
        """The highest number that the first group of this regular expression finds among all of
        them; 0: none.
        """


@dataclass(frozen=True, slots=True)
class KnownNames:
    """Names in use, all at hand."""

    names: frozenset[str] = frozenset()

    def among(self, names: pl.Series) -> pl.Series:
        """Those of these names that are in use."""
        return names.filter(names.is_in(list(self.names)))

    def highest(self, form: str) -> int:
        """The highest number that the first group finds."""
        found = pl.Series(list(self.names), dtype=pl.String).str.extract(form, 1)
        highest = found.drop_nulls().cast(pl.Int64).max()
        return int(str(highest)) if highest is not None else 0


NOBODYS = KnownNames()


def compose(
    template: Template, devices: pl.DataFrame, taken: NamesInUse = NOBODYS, next_number: int = 1
) -> pl.DataFrame:
    """Names for devices of the template's platforms.

    devices: `device_id` and the columns of FIELDS as text, missing values null.
    taken: names in use by others. next_number: what the template's counter gives next.
    Returns `device_id, name, number, problem, shortened`: `problem` is null or one of `lacking:
    FIELD`, `too_long`, `bad_characters`, `colliding`; with a problem there is no name.
    """
    pieces = parse(template.pattern)
    counting = any(piece.field == "n" for piece in pieces)
    # A counter costs only those that take a number: devices that lack a value are decided first.
    lacking = _lacking(pieces)
    frame = devices.with_columns(
        problem=lacking,
        name=pl.lit(None, dtype=pl.String),
        shortened=pl.lit(False),
        number=pl.lit(None, dtype=pl.Int64),
    )
    decided = [frame.filter(pl.col("problem").is_not_null())]
    open_, number = frame.filter(pl.col("problem").is_null()), next_number
    # The names given in former rounds are in use by now.
    given = pl.Series([], dtype=pl.String)
    for attempt in range(_ROUNDS):
        if not open_.height:
            break
        if attempt == _PATIENT_ROUNDS:
            # Names in use stand in a row: go on behind all of them.
            number = max(number, 1 + taken.highest(_form(template.pattern)))
        open_ = open_.with_columns(
            number=(
                pl.int_range(number, number + open_.height, dtype=pl.Int64)
                if counting
                else pl.lit(None, dtype=pl.Int64)
            )
        )
        named = _named(pieces, open_)
        lower = pl.col("name").str.to_lowercase()
        candidates = named.select(lower).to_series().drop_nulls()
        used = pl.concat([taken.among(candidates), given])
        clash = lower.is_in(used.implode()) | ~lower.is_first_distinct()
        named = named.with_columns(clash=clash.fill_null(False))
        done = named.filter(~pl.col("clash") | ~pl.lit(counting))
        decided.append(
            done.with_columns(
                problem=pl.when("clash").then(pl.lit("colliding")).otherwise("problem"),
                name=pl.when(~pl.col("clash")).then("name"),
            ).drop("clash")
        )
        fresh = done.filter(~pl.col("clash"))["name"].drop_nulls().str.to_lowercase()
        given = pl.concat([given, fresh])
        number += open_.height
        open_ = (
            named.filter(pl.col("clash") & pl.lit(counting)).drop("clash")
            if counting
            else named.clear()
        )
    # Whatever is open by now would be so for ever.
    hopeless = {"problem": pl.lit("colliding"), "name": pl.lit(None, dtype=pl.String)}
    decided.append(open_.with_columns(**hopeless))
    return (
        pl.concat(decided, how="diagonal")
        .select("device_id", "name", "number", "problem", "shortened")
        .sort("device_id")
    )


_ONE_FILTER: dict[str, Callable[[str, int], str]] = {
    "upper": lambda text, _: text.upper(),
    "lower": lambda text, _: text.lower(),
    "ascii": lambda text, _: re.sub(_FOLDED, "", unicodedata.normalize("NFKD", text)),
    "letters": lambda text, _: "".join(c for c in text if unicodedata.category(c)[0] == "L"),
    "digits": lambda text, _: re.sub(r"[^0-9]", "", text),
    "first": lambda text, number: text[:number],
    "last": lambda text, number: text[-number:] if number else "",
    "pad": lambda text, number: text.zfill(number),
}


def compose_one(template: Template, texts: Mapping[str, str | None], number: int) -> str | None:
    """The name of one device (field → text), or None where the template gives it none: as
    `compose`, for the door, where a frame would take longer than all the rest.
    """
    pieces = parse(template.pattern)
    parts = []
    for piece in pieces:
        value: str | None = piece.text
        if piece.field:
            value = str(number) if piece.field == "n" else texts.get(piece.field)
        if piece.field == "check":
            value = ""
        if value is None and piece.fallback is None:
            return None
        if value is not None:
            for name, size in piece.filters:
                value = _ONE_FILTER[name](value, size)
        parts.append(value if value is not None else piece.fallback or "")
    checks = [place for place, piece in enumerate(pieces) if piece.field == "check"]
    platform = texts.get("platform")
    limit = CATALOGUE[Platform(platform)].name_length if platform else LONGEST
    over = max(0, sum(map(len, parts)) + len(checks) - limit)
    for place, piece in enumerate(pieces):
        if piece.shrinks:
            cut = min(over, max(len(parts[place]) - 1, 0))
            parts[place], over = parts[place][cut:], over - cut
    if checks:
        character = _check_character("".join(parts))
        for place in checks:
            parts[place] = character
    name = "".join(parts)
    return name if over == 0 and re.fullmatch(ALLOWED, name) else None


def _form(pattern: str) -> str:
    """What names of the pattern's shape look like in lower case; its first group is the number."""
    text = "".join(
        {"": re.escape(piece.text.lower()), "n": r"(\d{1,18})", "check": "[0-9a-z]"}.get(
            piece.field, ".*"
        )
        for piece in parse(pattern)
    )
    return f"^{text}$"


def length_limit(platform: pl.Expr) -> pl.Expr:
    """How many characters a name may have on each platform; without one, as many as any takes."""
    return platform.replace_strict(
        {p.value: f.name_length for p, f in CATALOGUE.items()},
        default=LONGEST,
        return_dtype=pl.Int64,
    )


def _lacking(pieces: Sequence[Piece]) -> pl.Expr:
    needed = [
        piece.field
        for piece in pieces
        if piece.field not in ("", *SPECIAL) and piece.fallback is None
    ]
    return pl.coalesce(
        pl.lit(None, dtype=pl.String),
        *(pl.when(pl.col(field).is_null()).then(pl.lit(f"lacking: {field}")) for field in needed),
    )


def _named(pieces: Sequence[Piece], frame: pl.DataFrame) -> pl.DataFrame:
    """The frame with `name`, `problem` and `shortened` filled in."""
    limit = length_limit(pl.col("platform"))
    frame = frame.with_columns(**{f"_{i}": _value(piece) for i, piece in enumerate(pieces)})
    total = pl.sum_horizontal(
        pl.col(f"_{i}").str.len_chars().cast(pl.Int64) for i in range(len(pieces))
    )
    over = (total + sum(piece.field == "check" for piece in pieces) - limit).clip(lower_bound=0)
    frame = frame.with_columns(
        _over=over, shortened=(over > 0) & pl.lit(any(piece.shrinks for piece in pieces))
    )
    for i, piece in enumerate(pieces):
        if piece.shrinks:
            # One character always stays, so that no part of a name vanishes unseen.
            cut = pl.min_horizontal(
                pl.col("_over"),
                (pl.col(f"_{i}").str.len_chars().cast(pl.Int64) - 1).clip(lower_bound=0),
            )
            frame = frame.with_columns(pl.col(f"_{i}").str.slice(cut), _over=pl.col("_over") - cut)
    if any(piece.field == "check" for piece in pieces):
        rest = frame.select(pl.concat_str(f"_{i}" for i in range(len(pieces)))).to_series()
        check = pl.Series([_check_character(text) for text in rest], dtype=pl.String)
        frame = frame.with_columns(
            check.alias(f"_{i}") for i, piece in enumerate(pieces) if piece.field == "check"
        )
    frame = frame.with_columns(name=pl.concat_str(f"_{i}" for i in range(len(pieces))))
    frame = frame.with_columns(
        problem=(
            pl.when(pl.col("_over") > 0)
            .then(pl.lit("too_long"))
            .when(~pl.col("name").str.contains(ALLOWED))
            .then(pl.lit("bad_characters"))
        )
    )
    frame = frame.with_columns(name=pl.when(pl.col("problem").is_null()).then("name"))
    return frame.drop([c for c in frame.columns if c.startswith("_")])


def _value(piece: Piece) -> pl.Expr:
    if not piece.field:
        return pl.lit(piece.text)
    if piece.field == "check":
        return pl.lit("")
    value = pl.col("number").cast(pl.String) if piece.field == "n" else pl.col(piece.field)
    for name, number in piece.filters:
        value = _FILTERS[name](value, number)
    return value.fill_null(piece.fallback if piece.fallback is not None else "")


def _check_character(text: str) -> str:
    """ISO 7064 MOD 37,36 over the letters and digits.

    (MOD 37-2 can give `*`, which no device name may have.)
    """
    return str(mod_37_36.calc_check_digit(re.sub(r"[^0-9A-Z]", "", text.upper())))
