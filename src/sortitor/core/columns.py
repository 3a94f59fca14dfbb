"""The columns a supplier's file may have, known by meaning rather than by exact header."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping, Sequence

from sortitor.core.column_words import FILLERS, TITLES
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.platforms import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind, Platform

#: Device fields a lot can set, in the order in which they are shown.
FIELDS = (
    "platform",
    "maker",
    "model",
    "product_code",
    "ownership",
    "order_name",
    "purchase_order",
    "supplier",
    "purchased_on",
    "warranty_until",
    "site",
    "department",
    "asset_tag",
    "name",
    "tags",
    "note",
)

IDENTIFIER_COLUMNS = tuple(kind.value for kind in IdentifierKind)
#: A device may have several of these; of the others the first header that fits counts.
_SEVERAL = ("imei", "mac")
#: What a lot's own take-out appends: read back, it says nothing.
PROBLEM = "problem"

COLUMNS = tuple(TITLES)
#: Says how well a column's cells fit a meaning, from 0 to 1.
Fit = Callable[[str, str], float]


def plain(header: str) -> str:
    """A header reduced to its words: case, accents and punctuation gone, a trailing counter
    dropped.
    """
    return " ".join(_words(header))


def _words(header: str) -> list[str]:
    apart = re.sub(r"(?<=[a-z])(?=[A-Z][a-z])", " ", unicodedata.normalize("NFKC", header))
    text = unicodedata.normalize("NFKD", apart.casefold().replace("ı", "i").replace("ł", "l"))
    text = "".join(mark for mark in text if not unicodedata.combining(mark))
    text = unicodedata.normalize("NFC", text)
    words = re.findall(r"[^\W_]+", text.replace("\u0640", ""))
    if words:
        words[-1] = re.sub(r"(?<=\D)\d{1,2}$", "", words[-1])
    while words and re.fullmatch(r"\d{1,2}", words[-1]):
        words.pop()
    return words


def _key(words: Iterable[str]) -> str:
    """Words run together: SerialNumber and serial number are one title."""
    return "".join(words)


def _titles() -> dict[str, dict[str, int]]:
    """Title → column → how much the title says: 3, or 1 where it is a weak one."""
    found: dict[str, dict[str, int]] = {}
    for column, text in TITLES.items():
        for title in (column, *re.split(r"[;\n]", text)):
            words = _words(title.strip().removeprefix("~"))
            strength = 1 if title.strip().startswith("~") else 3
            bare = [word for word in words if word not in FILLERS]
            for key, much in ((_key(words), strength), (_key(bare), strength - 1)):
                known = found.setdefault(key, {}) if key else {}
                known[column] = max(much, known.get(column, 0))
    return found


_MEANING = _titles()


def meanings(header: str) -> dict[str, int]:
    """Column → how much this title speaks for it; empty where it says nothing."""
    if len(header) > 200:
        return {}
    whole = _meanings_of(header)
    if whole:
        return whole
    parts = [part for part in re.split(r"[/|\n()\[\]]|[-–—:]\s", header) if part.strip()]
    found: dict[str, int] = {}
    for part in parts if len(parts) > 1 else ():
        for column, much in _meanings_of(part).items():
            found[column] = max(found.get(column, 0), min(much, 2))
    return found


def _meanings_of(title: str) -> dict[str, int]:
    words = _words(title)
    bare = [word for word in words if word not in FILLERS]
    return _MEANING.get(_key(words)) or (_MEANING.get(_key(bare)) if bare else None) or {}


def understand(
    headers: Sequence[str], given: Mapping[str, str] | None = None, fit: Fit | None = None
) -> dict[str, str]:
    """Header → column for every header that is understood; `given` maps column → header and goes
    first.

    A column other than `imei` and `mac` takes one header: the one whose cells fit best, then the
    one whose title says most, then the first. Raises BadInput for a mapping to a header that the
    file does not have or to a column that Sortitor does not know.
    """
    meaning = _given(headers, given or {})
    offers = [
        (header, column, much, fit(header, column) if fit is not None else 1.0, -place)
        for place, header in enumerate(headers)
        if header not in meaning
        for column, much in meanings(header).items()
    ]
    offers.sort(key=lambda offer: (round(offer[3], 1), offer[2], offer[4]), reverse=True)
    found: dict[str, str] = {}
    for header, column, much, fits, _ in offers:
        taken = {*meaning.values(), *found.values()}
        if header in found or (column in taken and column not in _SEVERAL):
            continue
        # A title that may mean anything needs cells that speak for it.
        if much > 1 or fits >= 0.5:
            found[header] = column
    return {**meaning, **{header: found[header] for header in headers if header in found}}


def _given(headers: Sequence[str], given: Mapping[str, str]) -> dict[str, str]:
    meaning: dict[str, str] = {}
    problems = []
    for column, header in given.items():
        if column not in COLUMNS:
            problems.append(
                FieldProblem(
                    f"/columns/{column}",
                    "unknown_column",
                    f"{column!r} is not a column; known are {', '.join(COLUMNS)}.",
                )
            )
        elif header not in headers:
            problems.append(
                FieldProblem(
                    f"/columns/{column}",
                    "unknown_header",
                    f"The file has no header {header!r}; it has {', '.join(headers)}.",
                )
            )
        meaning[header] = column
    if problems:
        raise BadInput("bad_mapping", problems[0].detail, "Correct the mapping.", tuple(problems))
    return meaning


def recall(
    headers: Sequence[str], known: Mapping[str, str], fit: Fit | None = None
) -> dict[str, str]:
    """What headers mean, with what a supplier's earlier file taught (header → column, "" for a
    plain detail) going first.
    """
    taught = {header: column for header, column in known.items() if header in headers}
    plainly = {
        header: column
        for header, column in understand(headers, fit=fit).items()
        if header not in taught and column not in taught.values()
    }
    return {**{header: column for header, column in taught.items() if column}, **plainly}


def remap(
    headers: Sequence[str], wanted: Mapping[str, str | None], now: Mapping[str, str]
) -> dict[str, str]:
    """The meaning `now` with the headers in `wanted` meaning something else; None makes a header a
    plain detail.
    """
    problems = [
        FieldProblem(
            f"/columns/{h}",
            "unknown_header",
            f"The file has no header {h!r}; it has {', '.join(headers)}.",
        )
        for h in wanted
        if h not in headers
    ]
    problems += [
        FieldProblem(
            f"/columns/{h}",
            "unknown_column",
            f"{c!r} is not a column; known are {', '.join(COLUMNS)}.",
        )
        for h, c in wanted.items()
        if c and c not in COLUMNS
    ]
    taken = [column for column in wanted.values() if column and column not in _SEVERAL]
    problems += [
        FieldProblem("/columns", "column_twice", f"Two headers cannot both be {column}.")
        for column in sorted({c for c in taken if taken.count(c) > 1})
    ]
    if problems:
        raise BadInput("bad_mapping", problems[0].detail, "Correct the mapping.", tuple(problems))
    kept = {
        header: column
        for header, column in now.items()
        if header not in wanted and column not in taken
    }
    return {**{header: column for header, column in wanted.items() if column}, **kept}


def template_headers(platform: Platform) -> list[str]:
    """Headers of a file for this platform that are understood as they stand; the identifiers that
    it has come first.
    """
    kinds = [
        kind.value
        for kind in IdentifierKind
        if kind in CATALOGUE[platform].identifiers and kind is not IdentifierKind.FINGERPRINT
    ]
    several = [f"{kind} 2" for kind in kinds if kind == "imei"]
    others = [field for field in (*FIELDS, "person") if field not in ("platform", "order_name")]
    return [word.replace("_", " ") for word in (*kinds, *several, "platform", "order", *others)]
