"""Letters of other alphabets that look like Latin ones, and marks that cannot be seen: two texts
that a reader takes for the same are kept as the same.
"""

from __future__ import annotations

import polars as pl

#: Cyrillic and Greek letters, and what a reader takes them for.
_LETTERS = dict(
    zip(
        "АВЕЅІЈКМНОРСТХҮԚԜЗаеѕіјорсухԛԝΑΒΕΖΗΙΚΜΝΟΡΤΥΧοινρχ",
        "ABESIJKMHOPCTXYQW3aesijopcyxqwABEZHIKMNOPTYXoivpx",
        strict=True,
    )
)
_FROM, _TO = list(_LETTERS), list(_LETTERS.values())
#: Any letter of those alphabets.
_OTHER = r"[\p{Cyrillic}\p{Greek}]"
#: A word with Latin letters or digits on one side and a letter of another alphabet on the other.
MIXED = rf"(?:[A-Za-z0-9]{_OTHER}|{_OTHER}[A-Za-z0-9])"
#: Marks without width; the joiners of Arabic and Indic writing are letters to their readers.
_UNSEEN = r"[\p{Cf}\u{FE00}-\u{FE0F}&&[^\u{200C}\u{200D}]]"
_JOINERS = r"[\u{200C}\u{200D}]"
_JOINING = r"[\p{Arabic}\p{Devanagari}\p{Bengali}\p{Tamil}\p{Malayalam}\p{Sinhala}\p{Syriac}]"


def unfolded(text: pl.Expr) -> pl.Expr:
    """The letters that look like Latin ones as the Latin ones."""
    return text.str.replace_many(_FROM, _TO)


def in_latin(text: str) -> str:
    """The same for one text."""
    return "".join(_LETTERS.get(letter, letter) for letter in text)


def seen(text: pl.Expr) -> pl.Expr:
    """A text as a reader sees it: composed, full-width forms narrow, blanks of any kind as one
    blank, nothing unseen.
    """
    joined = (
        pl.when(text.str.contains(_JOINING))
        .then(text)
        .otherwise(text.str.replace_all(_JOINERS, ""))
    )
    narrow = (
        pl.when(joined.str.contains(r"[\u{FF01}-\u{FF5E}]"))
        .then(joined.str.normalize("NFKC"))
        .otherwise(joined.str.normalize("NFC"))
    )
    return (
        narrow.str.replace_all(_UNSEEN, "")
        .str.replace_all(r"[\p{Cc}\p{Z}]+", " ")
        .str.strip_chars()
        .replace("", None)
    )
