"""Device names from templates: `{site|upper|first 3}-{serial|last 6}`, `DECK-{n|pad 4}`.

A template is text with fields in braces. A field is a device attribute, `n` (a counter of the
template) or `check` (ISO 7064 MOD 37,36 over the rest); filters follow it after `|`. A `~` before
the field allows it to be shortened from the left when the whole is too long.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass

import polars as pl
from stdnum.iso7064 import mod_37_36

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.platforms import CATALOGUE
from sortitor.core.vocabulary import Platform

#: What a field may name; the columns of the frames given to `compose`.
FIELDS = (
    "serial",
    "imei",
    "platform",
    "maker",
    "model",
    "product_code",
    "ownership",
    "order_name",
    "supplier",
    "site",
    "department",
    "asset_tag",
    "person",
    "person_department",
    "person_site",
)
_SPECIAL = ("n", "check")
_TOKEN = re.compile(r"\{([^{}]*)\}|([^{}]+)")
ALLOWED = r"^[A-Za-z0-9]([A-Za-z0-9\-]*[A-Za-z0-9])?$"
#: Characters of a name where the platform is not known.
LONGEST = 63
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
_WITH_NUMBER = ("first", "last", "pad")


@dataclass(frozen=True, slots=True)
class Piece:
    """A literal (`field` empty) or a field with its filters `(name, number)`, its fallback and
    whether it may shrink.
    """

    text: str = ""
    field: str = ""
    filters: tuple[tuple[str, int], ...] = ()
    fallback: str | None = None
    shrinks: bool = False


@dataclass(frozen=True, slots=True)
class Template:
    """A naming template; `platforms` empty means all.

    `next_number` is what the counter gives next.
    """

    name: str
    pattern: str
    platforms: tuple[Platform, ...] = ()
    next_number: int = 1

    def fits(self, platform: str | None) -> bool:
        """Whether the template names devices of this platform."""
        return not self.platforms or platform in self.platforms


def parse(pattern: str) -> tuple[Piece, ...]:
    """The pieces of a template. Raises BadInput with the column and a caret under the fault."""
    pieces, place = [], 0
    for match in _TOKEN.finditer(pattern):
        if match.start() != place:
            _fault(pattern, place, "a brace without its partner")
        place = match.end()
        pieces.append(
            Piece(text=match[2]) if match[1] is None else _field(pattern, match.start(1), match[1])
        )
    if place != len(pattern):
        _fault(pattern, place, "a brace without its partner")
    if not pieces:
        _fault(pattern, 0, "an empty template")
    return tuple(pieces)


def _field(pattern: str, start: int, inside: str) -> Piece:
    parts = inside.split("|")
    head = parts[0].strip()
    shrinks, name = head.startswith("~"), head.removeprefix("~").strip()
    if name not in FIELDS + _SPECIAL:
        _fault(pattern, start, f"{name!r} is not a field; known are {', '.join(FIELDS + _SPECIAL)}")
    filters, fallback, place = [], None, start + len(parts[0]) + 1
    for part in parts[1:]:
        word = part.strip()
        if quoted := re.fullmatch(r'or\s+"([^"]*)"', word):
            fallback = quoted[1]
        elif (
            (known := re.fullmatch(r"([a-z]+)(?:\s+(\d{1,2}))?", word))
            and known[1] in _FILTERS
            and (known[2] is not None) == (known[1] in _WITH_NUMBER)
        ):
            filters.append((known[1], int(known[2] or 0)))
        else:
            _fault(
                pattern,
                place,
                f"{word!r} is not a filter; known are upper, lower, ascii, letters, digits, first"
                ' N, last N, pad N, or "text"',
            )
        place += len(part) + 1
    return Piece("", name, tuple(filters), fallback, shrinks)


def _fault(pattern: str, place: int, what: str) -> None:
    detail = f"Column {place + 1}: {what}.\n{pattern}\n{' ' * place}^"
    raise BadInput(
        "bad_template",
        detail,
        "Correct the template.",
        (FieldProblem("/pattern", "bad_template", detail),),
    )


def shape(pattern: str) -> str:
    """A regular expression for the names that a template gives: a device whose name has this shape
    keeps its number.
    """
    parts = {"": "", "n": r"\d+", "check": "[0-9A-Z]"}
    return (
        "^"
        + "".join(
            re.escape(piece.text) if not piece.field else parts.get(piece.field, ".*")
            for piece in parse(pattern)
        )
        + "$"
    )


def counts(pattern: str) -> bool:
    """Whether the template has a counter, so that it can step over names in use."""
    return any(piece.field == "n" for piece in parse(pattern))


def compose(template: Template, devices: pl.DataFrame, taken: Collection[str]) -> pl.DataFrame:
    """Names for devices of the template's platforms.

    devices: `device_id` and the columns of FIELDS as text, missing values null.
    taken: lower-case names in use by others.
    Returns `device_id, name, number, problem, shortened`: `problem` is null or one of `lacking:
    FIELD`,
    `too_long`, `bad_characters`, `colliding`; with a problem there is no name.
    """
    pieces = parse(template.pattern)
    counting = any(piece.field == "n" for piece in pieces)
    # A counter costs only those that take a number: devices that lack a value are settled first.
    lacking = _lacking(pieces)
    frame = devices.with_columns(
        problem=lacking,
        name=pl.lit(None, dtype=pl.String),
        shortened=pl.lit(False),
        number=pl.lit(None, dtype=pl.Int64),
    )
    settled = [frame.filter(pl.col("problem").is_not_null())]
    open_, used, number = (
        frame.filter(pl.col("problem").is_null()),
        set(taken),
        template.next_number,
    )
    while open_.height:
        open_ = open_.with_columns(
            number=(
                pl.int_range(number, number + open_.height, dtype=pl.Int64)
                if counting
                else pl.lit(None, dtype=pl.Int64)
            )
        )
        named = _named(pieces, open_)
        lower = pl.col("name").str.to_lowercase()
        clash = lower.is_in(list(used)) | ~lower.is_first_distinct()
        named = named.with_columns(clash=clash.fill_null(False))
        done = named.filter(~pl.col("clash") | ~pl.lit(counting))
        settled.append(
            done.with_columns(
                problem=pl.when("clash").then(pl.lit("colliding")).otherwise("problem"),
                name=pl.when(~pl.col("clash")).then("name"),
            ).drop("clash")
        )
        used |= set(done.filter(~pl.col("clash"))["name"].drop_nulls().str.to_lowercase())
        number += open_.height
        open_ = (
            named.filter(pl.col("clash") & pl.lit(counting)).drop("clash")
            if counting
            else named.clear()
        )
    return (
        pl.concat(settled, how="diagonal")
        .select("device_id", "name", "number", "problem", "shortened")
        .sort("device_id")
    )


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
        if piece.field not in ("", *_SPECIAL) and piece.fallback is None
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


def check_name(name: str, platform: str | None) -> None:
    """Raise BadInput for a name set by hand that the platform cannot have."""
    limit = CATALOGUE[Platform(platform)].name_length if platform else LONGEST
    if len(name) > limit:
        raise BadInput(
            "name_too_long",
            f"{name!r} has {len(name)} characters; {platform or 'a device'} takes {limit}.",
            "Shorten the name.",
        )
    if not re.fullmatch(ALLOWED, name):
        raise BadInput(
            "name_characters",
            f"{name!r} has characters that a device name cannot have.",
            "Use letters, digits and hyphens, none at the ends.",
        )


def starting_templates() -> list[Template]:
    """The template of a new installation: a plain counter, which never lacks a value."""
    return [Template("Every platform", "DEVICE-{n|pad 5}")]
