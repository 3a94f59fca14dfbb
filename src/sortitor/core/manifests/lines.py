"""JSON Lines (one object a line), and bare lists of identifiers."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

import polars as pl

from sortitor.core.columns import IDENTIFIER_COLUMNS, meanings
from sortitor.core.errors import BadInput
from sortitor.core.identifiers import check_one, kind_of
from sortitor.core.manifests.shape import Manifest, Remark, check_width, made, unique_headers
from sortitor.core.vocabulary import IdentifierKind

_SEPARATORS = re.compile(r"[\s,;]+")


def is_json(text: str) -> bool:
    """Whether this is a JSON document, or one object a line."""
    bare = text.lstrip()
    return bare.startswith("{") or re.match(r"\[\s*[\[{\]]", bare) is not None


def read_json(text: str, encoding: str) -> Manifest:
    """Every member of every object as text, objects inside of them by their path (hardware.imei);
    lists joined by semicolons. The objects stand one a line, in a list, or in a list inside of the
    document.

    Raises BadInput that names the line.
    """
    records, remarks = _records(text)
    names: dict[str, None] = {}
    flat = []
    for found in records:
        record = dict(_members(found))
        names |= dict.fromkeys(record)
        check_width(len(names))
        flat.append(record)
    if not names:
        raise BadInput("no_rows", "No object of the file has a member.", "Export it again.")
    headers = unique_headers(list(names))
    cells = pl.DataFrame(
        {
            header: pl.Series([record.get(name) for record in flat], dtype=pl.String)
            for header, name in zip(headers, names, strict=True)
        }
    )
    return made(cells, 1, layout="json", encoding=encoding, remarks=tuple(remarks))


def _records(text: str) -> tuple[list[dict[str, Any]], list[Remark]]:
    if _SURROGATE.search(text):
        _check_surrogates(text)
    try:
        # Numbers stay as they are written, digit by digit.
        whole = json.loads(text, parse_int=str, parse_float=str)
    except (ValueError, RecursionError) as error:
        first = text.lstrip().split("\n", 1)[0].strip()
        if first.startswith("{") and first.endswith("}"):
            return [_of_line(line, number) for number, line in enumerate(text.split("\n"), 1)], []
        place = getattr(error, "lineno", 1)
        raise BadInput(
            "unreadable_row",
            f"Line {place} is not JSON: {error}.",
            "Write a list of objects, or one object a line (JSON Lines).",
        ) from error
    return _objects_in(whole)


def _objects_in(whole: Any) -> tuple[list[dict[str, Any]], list[Remark]]:
    """The objects of the one list that holds objects, however deep it lies."""
    if isinstance(whole, list):
        strange = next((i for i, one in enumerate(whole, 1) if not isinstance(one, dict)), None)
        if strange is not None:
            raise BadInput(
                "unreadable_row",
                f"Entry {strange} of the list is not an object.",
                "Write a list of objects, or one object a line (JSON Lines).",
            )
        return whole, []
    lists = list(_lists_of_objects(whole, ""))
    if len(lists) > 1:
        named = ", ".join(f"{path} ({len(found):,})" for path, found in lists)
        raise BadInput(
            "several_lists",
            f"The document has several lists of objects: {named}.",
            "Save the one that is meant as a list of its own.",
        )
    if not lists:
        return [whole], []
    path, found = lists[0]
    return _objects_in(found)[0], [Remark("json_nested", given=f"{path} ({len(found):,})")]


def _lists_of_objects(found: dict[str, Any], path: str) -> Iterator[tuple[str, list[Any]]]:
    for name, value in found.items():
        if isinstance(value, dict):
            yield from _lists_of_objects(value, f"{path}{name}.")
        elif isinstance(value, list) and value and all(isinstance(one, dict) for one in value):
            yield f"{path}{name}", value


def _of_line(line: str, number: int) -> dict[str, Any]:
    try:
        found = json.loads(line, parse_int=str, parse_float=str) if line.strip() else {}
    except (ValueError, RecursionError) as error:
        raise BadInput(
            "unreadable_row",
            f"Line {number} is not JSON: {error}.",
            "Write one object a line (JSON Lines).",
        ) from error
    if not isinstance(found, dict):
        raise BadInput(
            "unreadable_row",
            f"Line {number} is not an object.",
            "Write one object a line (JSON Lines).",
        )
    return found


def _check_surrogates(text: str) -> None:
    for number, line in enumerate(text.split("\n"), 1):
        for found in re.findall(r'"(?:[^"\\]|\\.)*"', line):
            if _SURROGATE.search(found) and _has_half_a_pair(found):
                raise BadInput(
                    "unreadable_row",
                    f"Line {number} holds half of a character (a lone surrogate such as \\ud800).",
                    "Write the file in UTF-8.",
                )


_SURROGATE = re.compile(r"\\u[dD][89a-fA-F]")


def _has_half_a_pair(text: str) -> bool:
    """Whether a JSON text cannot be written as UTF-8."""
    try:
        json.loads(text).encode()
    except UnicodeEncodeError:
        return True
    except ValueError:
        return False
    return False


#: Objects in objects are followed so deep.
_DEEPEST = 8


def _members(
    found: dict[str, Any], path: str = "", depth: int = 0
) -> Iterator[tuple[str, str | None]]:
    """A list of identifiers becomes columns of their own; any other list is joined; an object's
    members are named by their path.
    """
    for key, value in found.items():
        name = f"{path}{key}"
        means = set(meanings(name)) or set(meanings(key))
        if isinstance(value, dict) and value and depth < _DEEPEST:
            yield from _members(value, f"{name}.", depth + 1)
        elif isinstance(value, list) and means.intersection(IDENTIFIER_COLUMNS):
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
    tokens = [line.strip() for line in text.split("\n")[:50] if line.strip()]
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
