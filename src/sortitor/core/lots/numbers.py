"""A column of identifiers, read as a careful person reads it: two numbers in one cell are taken
apart, words are not numbers, and what is unlike the rest of its column is doubted.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass, field

import polars as pl

from sortitor.core import placeholders
from sortitor.core.identifiers import CHECKS, check_one, imei_of, serial_of
from sortitor.core.lookalikes import in_latin
from sortitor.core.notes import DOUBTS
from sortitor.core.vocabulary import IdentifierKind

#: A device may have several of these.
SEVERAL = (IdentifierKind.IMEI, IdentifierKind.MAC)
#: Notes on a cell that holds no number at all: they cost the device nothing if it has another one.
NO_NUMBER = ("placeholder", "words", "repeated_value")
#: What stands between two numbers: a mark, or the word for “and”.
_STRONG = (
    r"\s*(?:[\r\n;,|&+、،／]|\s/\s|\s-\s"
    r"|\b(?:and|und|et|y|og|och|en|ve|oraz|i|e|or|oder|ou|o|veya)\b|と)\s*"
)
_LABEL = re.compile(
    r"^\W*(?:(?P<serial>(?:device |ger[äa]te ?)?serial(?:e)?(?:[ -]?(?:number|no|num|nr))?"
    r"|serien(?:nummer|[ -]?nr)|s/n|sn|n[°ºo]?\.? de s[eé]rie|nr seryjny|matricola|seri no)"
    r"|(?P<imei>imei(?:/sv)?(?: ?\(?(?:sim|slot)? ?\d\)?(?!\d))?)|(?P<meid>meid)|(?P<eid>eid)"
    r"|(?P<mac>(?:wi-?fi |wlan |lan |ethernet )?mac(?:[ -]?(?:address|adresse))?)|(?P<uuid>uuid)"
    r"|(?P<any>no|nr|number|id|sim ?\d|slot ?\d))(?:\s*[.:#=]+\s*|\s+|(?=\d{14}))",
    re.I,
)
_ASIDE = re.compile(r"\(([^()]*)\)|\[([^\[\]]*)\]")
_FRACTION = r"^[+-]?(\d{1,6}[.,]\d{1,2}|0[.,]\d+)$"
_SEPARATED = r"[\s;,|&/+:#=()\[\]、،]"
#: A serial number that needs no second look: letters, digits and hyphens, a digit among them.
_PLAIN = r"^[A-Za-z\-]*\d[A-Za-z0-9\-]*$"
_FEW = 8
#: Makers begin their numbers with a word of their own.
_BEGINNING = 2
_SAMPLE = 20_000
#: A cell with more characters holds no number that could be taken out of it.
_LONGEST = 500


@dataclass(frozen=True, slots=True)
class Numbers:
    """A column read: `checked` has `value` and `note`; `more` has `place, value`, further numbers
    of the same cells.
    """

    checked: pl.DataFrame
    more: pl.DataFrame = field(
        default_factory=lambda: pl.DataFrame(schema={"place": pl.UInt32, "value": pl.String})
    )


@dataclass(frozen=True, slots=True)
class _Usual:
    """What the plain serial numbers of a column look like: their lengths, how they begin, and
    whether they are letters only.
    """

    lengths: frozenset[int] = frozenset()
    beginnings: frozenset[str] = frozenset()
    letters: bool = False

    def is_like(self, text: str) -> bool:
        """Whether letters only, by chance, are a number like the others."""
        return len(text) in self.lengths and text[:_BEGINNING] in self.beginnings


def read_numbers(
    kind: IdentifierKind, given: pl.Series, trusted: pl.Series | None = None
) -> Numbers:
    """`trusted`: where it holds, a person has set the doubts aside."""
    checked = CHECKS[kind](given)
    usual = _usual(given) if kind is IdentifierKind.SERIAL else _Usual()
    places = _odd(kind, given, checked, usual)
    found = Numbers(checked)
    if places.len():
        found = _closely(kind, given, checked, places, usual)
    if kind is IdentifierKind.SERIAL:
        found = Numbers(_among_others(found.checked, trusted), found.more)
    return found if trusted is None else _without_doubts(found, checked, trusted)


def _without_doubts(found: Numbers, checked: pl.DataFrame, trusted: pl.Series) -> Numbers:
    """Doubts give way to a person's word; two numbers in one cell never become one."""
    doubts = found.checked["note"].is_in([*DOUBTS, "unlike_others"]).fill_null(False)
    aside = pl.lit(doubts & trusted)
    kept = found.checked.with_columns(
        value=pl.when(aside).then(checked["value"]).otherwise("value"),
        note=pl.when(aside).then(checked["note"]).otherwise("note"),
    )
    return Numbers(kept, found.more)


def _usual(given: pl.Series) -> _Usual:
    cells = given.head(_SAMPLE).drop_nulls()
    with_digits = cells.filter(cells.str.contains(_PLAIN))
    lengths = with_digits.str.len_chars().value_counts()
    often = lengths.filter(pl.col("count") * 5 >= max(with_digits.len(), 1))
    letters = cells.filter(cells.str.contains(r"^[A-Z]{6,64}$"))
    all_letters = (
        letters.len() * 2 > cells.len()
        and letters.n_unique() == letters.len() >= 3
        and letters.str.len_chars().n_unique() == 1
    )
    return _Usual(frozenset(often.to_series(0).to_list()), _often(with_digits), all_letters)


def _often(cells: pl.Series) -> frozenset[str]:
    """How many of the numbers begin."""
    counts = cells.str.head(_BEGINNING).value_counts()
    often = counts.filter((pl.col("count") >= 3) & (pl.col("count") * 20 >= cells.len()))
    return frozenset(often.to_series(0).to_list())


def _odd(kind: IdentifierKind, given: pl.Series, checked: pl.DataFrame, usual: _Usual) -> pl.Series:
    """The places of the cells that need a closer look."""
    failed = checked["value"].is_null() & checked["note"].is_not_null()
    if kind is IdentifierKind.FINGERPRINT:
        failed = failed & given.str.contains(r"\s")
    if kind is not IdentifierKind.SERIAL or usual.letters:
        return failed.fill_null(False).arg_true()
    other = (~given.str.contains(_PLAIN) & given.str.contains(r"\S")).fill_null(False).arg_true()
    if not other.len():
        return failed.fill_null(False).arg_true()
    cells = given.gather(other)
    doubtful = (
        failed.gather(other)
        | cells.str.contains(_SEPARATED)
        | cells.str.contains(_FRACTION)
        | cells.str.contains(r"\p{Cf}")
        | ~checked["value"].gather(other).str.contains(r"\d")
    ).fill_null(True)
    failed_plainly = failed.fill_null(False).arg_true()
    return pl.concat([other.filter(doubtful), failed_plainly]).unique().sort()


def _closely(
    kind: IdentifierKind, given: pl.Series, checked: pl.DataFrame, places: pl.Series, usual: _Usual
) -> Numbers:
    cells, notes = given.gather(places), checked["note"].gather(places)
    values = checked["value"].gather(places)
    each = {
        text: _one(kind, text, value, note, usual)
        for text, value, note in dict(
            zip(cells, zip(cells, values, notes, strict=True), strict=True)
        ).values()
    }
    read = [each[text] for text in cells]
    first = pl.Series([values[0] if values else None for values, _ in read], dtype=pl.String)
    note = pl.Series([note for _, note in read], dtype=pl.String)
    more = [
        (place, value)
        for place, (values, _) in zip(places, read, strict=True)
        for value in values[1:]
    ]
    return Numbers(
        pl.DataFrame(
            {
                "value": checked["value"].clone().scatter(places, first),
                "note": checked["note"].clone().scatter(places, note),
            }
        ),
        pl.DataFrame(more, schema={"place": pl.UInt32, "value": pl.String}, orient="row"),
    )


Outcome = tuple[list[str], str | None]


def _one(
    kind: IdentifierKind, text: str, value: str | None, note: str | None, usual: _Usual
) -> Outcome:
    """The numbers of one cell, and what is to be said of it."""
    if len(text) > _LONGEST:
        return [value] if value else [], note
    if note in ("cell_error", "scientific_notation", "looks_like_date", "thousands_separators"):
        return [], note
    nothing = not placeholders.key(text) or placeholders.key(text) in placeholders.KEYS
    if nothing or note == "placeholder":
        return [], "placeholder"
    if not _has_digit(text):
        return ([value], note) if value and usual.is_like(text) else ([], "words")
    if kind is IdentifierKind.SERIAL:
        return _serial(text, value, note, usual)
    return _pieces(kind, text, note)


def _serial(text: str, value: str | None, note: str | None, usual: _Usual) -> Outcome:
    if re.fullmatch(_FRACTION, text.strip()):
        return [], "fraction"
    if value is None and (latin := _in_latin(text)):
        return [latin], "look_alike_letters"
    bare, labelled = _unlabelled(IdentifierKind.SERIAL, text)
    if labelled == "other":
        return [], "other_kind"
    pieces = _split(bare)
    if len(pieces) > 1:
        sound = [piece for piece in pieces if _is_serial(piece)]
        if len(sound) > 1:
            return [], "two_numbers"
        words = [piece for piece in pieces if piece not in sound]
        if len(sound) == 1 and all(not _has_digit(piece) for piece in words):
            return [str(serial_of(sound[0]))], "words_removed"
        return [], note or "serial_characters"
    if _are_two(bare, usual):
        return [], "two_numbers"
    aside = _ASIDE.sub(" ", bare).strip() if "(" in bare or "[" in bare else bare
    if _is_sentence(aside, usual):
        return [], "words"
    if not labelled and aside == bare:
        return [value] if value else [], note
    found = serial_of(aside)
    return ([found], "label_removed") if found else ([], note or "serial_characters")


def _unlabelled(kind: IdentifierKind, text: str) -> tuple[str, str]:
    """The text without its label; "this" where the label is of this kind, "other" where it is of
    another.
    """
    plain = text if text.isascii() else unicodedata.normalize("NFKC", text)
    found = _LABEL.match(plain)
    if found is None:
        return text, ""
    rest = plain[found.end() :]
    if not _has_digit(rest):
        return text, ""
    named = next(name for name, part in found.groupdict().items() if part)
    return rest, "this" if named in ("any", kind.value) else "other"


def _split(text: str) -> list[str]:
    return [
        piece.strip() for piece in re.split(_STRONG, text, flags=re.I) if piece and piece.strip()
    ]


def _has_digit(text: str) -> bool:
    return any(mark.isdigit() for mark in text)


def _is_serial(text: str) -> bool:
    return _has_digit(text) and len(text) >= 3 and serial_of(text) is not None


def _are_two(text: str, usual: _Usual) -> bool:
    """Two serial numbers with a blank or a slash between them, rather than one that is written in
    groups: each is as long as the others of the column, or both have one shape.
    """
    words = text.split()
    if len(words) > 1 and any(len(word) >= _FEW and _has_digit(word) for word in words):
        # One of them is a whole number already.
        others = [word for word in words if len(word) < _FEW or not _has_digit(word)]
        if sum(map(len, words)) not in usual.lengths and any(len(word) > 2 for word in others):
            return True
    for separator in (r"\s+", "/"):
        parts = [part for part in re.split(separator, text.strip()) if part]
        if len(parts) < 2 or not all(_is_serial(part) for part in parts):
            continue
        if min(map(len, parts)) >= _FEW and len({_shape(part) for part in parts}) == 1:
            return True
        if sum(map(len, parts)) in usual.lengths:
            return False
        if all(len(part) in usual.lengths for part in parts):
            return True
    return False


def _shape(text: str) -> str:
    return re.sub(r"\d", "9", re.sub(r"[^\W\d_]", "A", text))


def _is_sentence(text: str, usual: _Usual) -> bool:
    words = re.findall(r"(?:^|(?<=[\s.,;:]))[^\W\d_]{2,}(?=$|[\s.,;:!?])", text)
    if not words or not re.search(r"\s", text):
        return False
    joined = len(re.sub(r"\s", "", text))
    return (max(map(len, words)) >= 4 or len(words) > 1) and joined not in usual.lengths


def _in_latin(text: str) -> str | None:
    """A serial number that was typed with look-alike letters of another alphabet."""
    folded = in_latin(text.upper())
    value = serial_of(folded) if folded != text.upper() else None
    return value if value and _has_digit(value) else None


def _pieces(kind: IdentifierKind, text: str, note: str | None) -> Outcome:
    """Numbers that prove themselves, out of whatever stands around them."""
    bare, labelled = _unlabelled(kind, _ASIDE.sub(" ", text))
    if labelled == "other":
        return [], "other_kind"
    whole = _value(kind, bare)
    if whole:
        return [whole], "label_removed"
    for parts in (
        re.split(_STRONG, bare, flags=re.I),
        re.split(r"[\s/]+|" + _STRONG, bare, flags=re.I),
    ):
        outcome = _of_parts(kind, [part.strip() for part in parts if part and part.strip()])
        if outcome is not None:
            return outcome
    return [], note


def _value(kind: IdentifierKind, text: str) -> str | None:
    return imei_of(text) if kind is IdentifierKind.IMEI else check_one(kind, text)[0]


def _of_parts(kind: IdentifierKind, parts: list[str]) -> Outcome | None:
    if len(parts) < 2:
        return None
    values, others = [], 0
    for part in parts:
        rest, labelled = _unlabelled(kind, part)
        value = _value(kind, rest) if labelled != "other" else None
        if value:
            values.append(value)
        elif _has_digit(part) and placeholders.key(part) not in placeholders.KEYS:
            others += len(re.sub(r"\D", "", part)) > 2
    values = list(dict.fromkeys(values))
    if not values:
        return None
    if others or (len(values) > 1 and kind not in SEVERAL):
        return [], "two_numbers"
    return values, "numbers_apart" if len(values) > 1 else "words_removed"


def _among_others(checked: pl.DataFrame, trusted: pl.Series | None) -> pl.DataFrame:
    """Serial numbers that repeat where all others are unique, or that are far shorter than every
    other one.
    """
    values = checked["value"]
    filled = values.len() - values.null_count()
    if filled < _FEW:
        return checked
    note = checked["note"]
    if values.drop_nulls().n_unique() < filled:
        several = values.is_duplicated() & values.is_not_null()
        counts = values.filter(several).value_counts().filter(pl.col("count") >= 3)
        often = counts.to_series(0)
        unique = filled - int(several.sum())
        if often.len() and often.len() * 4 <= unique and unique * 2 >= filled:
            doubted = values.is_in(often.implode())
            if trusted is not None:
                doubted = doubted & ~trusted
            values = values.set(doubted, None)
            note = note.set(doubted, "repeated_value")
    lengths = values.str.len_chars()
    short = lengths.head(_SAMPLE).quantile(0.05) or 0
    few = (lengths * 2 <= short) & note.is_null()
    if trusted is not None:
        few = few & ~trusted
    if few.any():
        note = note.set(few.fill_null(False), "unlike_others")
    return pl.DataFrame({"value": values, "note": note})


def counts_rows(values: pl.Series) -> bool:
    """Whether the cells only count: small whole numbers, each one more than the one before."""
    numbers = (
        values.drop_nulls().str.strip_chars().str.strip_suffix(".0").cast(pl.Int64, strict=False)
    )
    if numbers.len() < 2 or numbers.null_count() or (numbers.max() or 0) > 99_999:  # type: ignore[operator]
        return False
    steps = numbers.diff().drop_nulls().to_list()
    return steps.count(1) * 5 >= len(steps) * 4
