"""JSON Lines (one object a line), and bare lists of identifiers."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

import polars as pl

from sortitor.core.columns import IDENTIFIER_COLUMNS, understand
from sortitor.core.errors import BadInput
from sortitor.core.identifiers import check_one, kind_of
from sortitor.core.manifests.shape import Manifest, check_width, made, unique_headers
from sortitor.core.vocabulary import IdentifierKind

_SEPARATORS = re.compile(r"[\s,;]+")


def is_json(text: str) -> bool:
    """Whether the first line is a JSON object."""
    first = text.lstrip().split("\n", 1)[0].strip()
    return first.startswith("{") and first.endswith("}")


def read_json(text: str, encoding: str) -> Manifest:
    """Every member of every object as text; lists joined by semicolons.

    Raises BadInput that names the line.
    """
    records: list[dict[str, str | None]] = []
    names: dict[str, None] = {}
    for number, line in enumerate(text.splitlines(), 1):
        try:
            # Numbers stay as they are written, digit by digit.
            found = json.loads(line, parse_int=str, parse_float=str) if line.strip() else {}
        except ValueError as error:
            raise BadInput(
                "unreadable_row",
                f"Line {number} is not JSON: {error}.",
                "Write one object a line (JSON Lines).",
            ) from error
        if _SURROGATE.search(line) and _has_half_a_pair(found):
            raise BadInput(
                "unreadable_row",
                f"Line {number} holds half of a character (a lone surrogate such as \\ud800).",
                "Write the file in UTF-8.",
            )
        if not isinstance(found, dict):
            raise BadInput(
                "unreadable_row",
                f"Line {number} is not an object.",
                "Write one object a line (JSON Lines).",
            )
        record = dict(_members(found))
        names |= dict.fromkeys(record)
        check_width(len(names))
        records.append(record)
    if not names:
        raise BadInput("no_rows", "No object of the file has a member.", "Export it again.")
    headers = unique_headers(list(names))
    cells = pl.DataFrame(
        {
            header: pl.Series([record.get(name) for record in records], dtype=pl.String)
            for header, name in zip(headers, names, strict=True)
        }
    )
    return made(cells, 1, layout="json", encoding=encoding)


_SURROGATE = re.compile(r"\\u[dD][89a-fA-F]")


def _has_half_a_pair(found: Any) -> bool:
    """Whether a text cannot be written as UTF-8."""
    try:
        json.dumps(found, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return True
    return False


def _members(found: dict[str, Any]) -> Iterator[tuple[str, str | None]]:
    """A list of identifiers becomes columns of their own; any other list is joined."""
    for name, value in found.items():
        if isinstance(value, list) and understand([name]).get(name) in IDENTIFIER_COLUMNS:
            yield from (
                (name if place == 1 else f"{name} {place}", _text(item))
                for place, item in enumerate(value, 1)
            )
        else:
            yield name, _text(value)


def _text(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, list):
        return ";".join(_text(item) or "" for item in value)
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def is_list(text: str) -> bool:
    """Whether every line is one identifier."""
    tokens = [line.strip() for line in text.splitlines()[:50] if line.strip()]
    return bool(tokens) and all(
        not re.search(r"[\s,;|]", token)
        and re.search(r"\d", token)
        and check_one(kind_of(token), token)[0]
        for token in tokens
    )


def read_identifiers(text: str) -> Manifest:
    """Each token a row, in the column of its kind."""
    tokens = [token for token in _SEPARATORS.split(text) if token]
    if not tokens:
        raise BadInput(
            "no_rows",
            "There are no identifiers in the text.",
            "Paste serial numbers, IMEIs or other hardware identifiers.",
        )
    frame = pl.DataFrame({"token": tokens, "kind": [kind_of(token).value for token in tokens]})
    present = [kind.value for kind in IdentifierKind if kind.value in set(frame["kind"])]
    cells = frame.select(
        pl.when(pl.col("kind") == kind).then("token").alias(kind) for kind in present
    )
    return made(cells, 1, layout="paste")
    # Every token has exactly one cell, whichever column it stands in.
