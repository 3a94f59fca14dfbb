"""The filter language: the grammar of SCIM 2.0 filters (RFC 7644 §3.4.2.2) over what is known of a device.

`ownership eq "corporate" and platform eq "android" and not (tags eq "spare")`. One meaning, two engines: `matches` decides for
one device with a trace, the store compiles the same tree to SQL. Logic is two-valued: a comparison with a missing value is false,
`ne` is the opposite of `eq`, and `pr` asks whether there is a value. Text is compared without regard to case.
"""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from enum import StrEnum
from typing import Any, NoReturn

from sortitor.core import versions
from sortitor.core.errors import BadInput, FieldProblem


class Kind(StrEnum):
    """What an attribute holds, which decides how it is compared."""

    TEXT = "text"
    #: One of a few words; only eq, ne, pr.
    TOKEN = "token"
    NUMBER = "number"
    TIME = "time"
    DAY = "day"
    #: Compared by its numeric components: 10 equals 10.0.
    VERSION = "version"
    #: Several texts; a comparison holds if it holds for any of them.
    TEXTS = "texts"


_ORDER = ("gt", "ge", "lt", "le")
_PARTS = ("co", "sw", "ew")
OPERATORS: dict[Kind, tuple[str, ...]] = {
    Kind.TEXT: ("eq", "ne", "pr", *_PARTS), Kind.TOKEN: ("eq", "ne", "pr"), Kind.NUMBER: ("eq", "ne", "pr", *_ORDER), Kind.TIME: ("eq", "ne", "pr", *_ORDER),
    Kind.DAY: ("eq", "ne", "pr", *_ORDER), Kind.VERSION: ("eq", "ne", "pr", *_ORDER), Kind.TEXTS: ("eq", "ne", "pr", *_PARTS),
}  # fmt: skip

#: Attribute → its kind. The store has a column for each.
ATTRIBUTES: dict[str, Kind] = {
    "stage": Kind.TOKEN, "platform": Kind.TOKEN, "ownership": Kind.TOKEN, "ownershipBasis": Kind.TOKEN, "flag": Kind.TOKEN, "osVersion": Kind.VERSION,
    "name": Kind.TEXT, "maker": Kind.TEXT, "model": Kind.TEXT, "productCode": Kind.TEXT, "site": Kind.TEXT, "department": Kind.TEXT, "assetTag": Kind.TEXT,
    "note": Kind.TEXT, "order": Kind.TEXT, "purchaseOrder": Kind.TEXT, "supplier": Kind.TEXT, "tags": Kind.TEXTS, "serial": Kind.TEXTS, "imei": Kind.TEXTS,
    "purchasedOn": Kind.DAY, "warrantyUntil": Kind.DAY, "enrolledAt": Kind.TIME, "lastSeenAt": Kind.TIME, "id": Kind.NUMBER, "lot": Kind.NUMBER,
    "idleDays": Kind.NUMBER, "person.userName": Kind.TEXT, "person.name": Kind.TEXT, "person.department": Kind.TEXT, "person.site": Kind.TEXT, "person.groups": Kind.TEXTS,
}  # fmt: skip
_BY_LOWER = {name.lower(): name for name in ATTRIBUTES}

Value = str | float | datetime | date | tuple[int, ...] | None


@dataclass(frozen=True, slots=True)
class Comparison:
    """`attribute operator value`; the value is in the form of the attribute's kind, None for `pr`."""

    attribute: str
    operator: str
    value: Value = None
    text: str = ""


@dataclass(frozen=True, slots=True)
class Joined:
    """Filters joined by `and` or `or`."""

    word: str
    parts: tuple[Filter, ...]


@dataclass(frozen=True, slots=True)
class Not:
    """The opposite."""

    part: Filter


Filter = Comparison | Joined | Not

_TOKEN = re.compile(r'\s*(?:(?P<paren>[()])|(?P<string>"(?:[^"\\]|\\.)*")|(?P<word>[A-Za-z][\w.$-]*)|(?P<number>-?\d+(?:\.\d+)?(?![\w.]))|(?P<end>$)|(?P<other>\S))', re.DOTALL)
MOST_CHARACTERS = 4_000
_DEEPEST = 40


def fault(text: str, place: int, what: str) -> NoReturn:
    """Raise BadInput with the column and a caret under it."""
    detail = f"Column {place + 1}: {what}{'' if what.endswith('?') else '.'}\n{text}\n{' ' * place}^"
    raise BadInput("bad_filter", detail, "Correct the filter.", (FieldProblem("/filter", "bad_filter", detail),))


class _Parser:
    """A recursive descent; `or` binds weaker than `and`, `not` takes parentheses."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.place = 0
        self.kind, self.token, self.start = "", "", 0
        self.step()

    def step(self) -> None:
        found = _TOKEN.match(self.text, self.place)
        assert found is not None, "the last alternative takes whatever is left"
        self.kind = str(found.lastgroup)
        self.token, self.start, self.place = found[self.kind], found.start(self.kind), found.end()

    def word(self, *wanted: str) -> bool:
        if self.kind == "word" and self.token.lower() in wanted:
            self.step()
            return True
        return False

    def joined(self, word: str, depth: int) -> Filter:
        if depth > _DEEPEST:
            fault(self.text, self.start, f"more than {_DEEPEST} levels of parentheses")
        parts = [self.joined("and", depth) if word == "or" else self.single(depth)]
        while self.word(word):
            parts.append(self.joined("and", depth) if word == "or" else self.single(depth))
        return parts[0] if len(parts) == 1 else Joined(word, tuple(parts))

    def single(self, depth: int) -> Filter:
        if self.word("not"):
            if self.token != "(":
                fault(self.text, self.start, "“not” is followed by parentheses")
            return Not(self.single(depth))
        if self.token == "(" and self.kind == "paren":
            opened = self.start
            self.step()
            inner = self.joined("or", depth + 1)
            if self.token != ")" or self.kind != "paren":
                fault(self.text, opened, "a parenthesis that is not closed")
            self.step()
            return inner
        return self.comparison()

    def comparison(self) -> Filter:
        if self.kind != "word":
            fault(self.text, self.start, "an attribute is missing here" if self.kind == "end" else f"an attribute should stand here, not {self.token!r}")
        name = _BY_LOWER.get(self.token.lower())
        if name is None:
            near = difflib.get_close_matches(self.token.lower(), list(_BY_LOWER), 1)
            fault(self.text, self.start, f"{self.token!r} is not an attribute" + (f"; did you mean {_BY_LOWER[near[0]]}?" if near else f"; known are {', '.join(ATTRIBUTES)}"))
        self.step()
        return self.compared(name)

    def compared(self, name: str) -> Filter:
        allowed, operator = OPERATORS[ATTRIBUTES[name]], self.token.lower()
        if self.kind != "word" or operator not in {op for ops in OPERATORS.values() for op in ops}:
            fault(self.text, self.start, f"{name} is followed by one of {', '.join(allowed)}")
        if operator not in allowed:
            fault(self.text, self.start, f"{name} cannot be compared by {operator}; it takes {', '.join(allowed)}")
        self.step()
        if operator == "pr":
            return Comparison(name, "pr")
        started, given = self.start, self.value()
        if given is None:
            if operator not in ("eq", "ne"):
                fault(self.text, started, f"null is compared by eq or ne, not by {operator}")
            return Not(Comparison(name, "pr")) if operator == "eq" else Comparison(name, "pr")
        return Comparison(name, operator, self.typed(name, given, started), str(given))

    def value(self) -> Any:
        kind, token = self.kind, self.token
        if kind == "string":
            try:
                given = json.loads(token)
            except ValueError:
                fault(self.text, self.start, "a text with a backslash that means nothing")
            if "\0" in given:
                fault(self.text, self.start, "a NUL character, which no text has")
        elif kind == "number":
            given = float(token)
        elif kind == "word" and token.lower() == "null":
            given = None
        else:
            fault(self.text, self.start, "a value should stand here: a text in quotation marks, a number, or null")
        self.step()
        return given

    def typed(self, name: str, given: Any, place: int) -> Value:
        kind = ATTRIBUTES[name]
        if kind is Kind.NUMBER:
            return given if isinstance(given, float) else fault(self.text, place, f"{name} is compared with a number, written without quotation marks")
        if not isinstance(given, str):
            fault(self.text, place, f"{name} is compared with a text in quotation marks")
        try:
            if kind is Kind.VERSION:
                return trimmed(given)
            if kind is Kind.DAY:
                return date.fromisoformat(given)
            if kind is Kind.TIME:
                moment = datetime.fromisoformat(given)
                return moment if moment.tzinfo else fault(self.text, place, "a time needs its zone, such as 2026-03-31T09:00:00Z")
        except ValueError:
            form = {Kind.VERSION: "a version such as 14 or 10.0.1", Kind.DAY: "a date such as 2026-03-31"}.get(kind, "a time such as 2026-03-31T09:00:00Z")
            fault(self.text, place, f"{name} is compared with {form}")
        return lower(given)


def parse(text: str) -> Filter:
    """The tree of a filter. Raises BadInput with the column, a caret under the fault, and the nearest name."""
    if len(text) > MOST_CHARACTERS:
        raise BadInput("filter_too_long", f"The filter has {len(text):,} characters; at most {MOST_CHARACTERS:,} are read.", "Use a list instead.")
    parser = _Parser(text)
    found = parser.joined("or", 0)
    if parser.kind != "end":
        fault(text, parser.start, f"“and” or “or” should stand before {parser.token!r}" if parser.token != ")" else "a parenthesis that was never opened")
    return found


def lower(text: str) -> str:
    """Lower case letter by letter, as the database has it: no letter becomes two, none depends on its neighbours."""
    return "".join(low if len(low := letter.lower()) == 1 else "i" if letter == "İ" else letter for letter in text)


def trimmed(version: str) -> tuple[int, ...]:
    """The components without trailing zeros, so that 10 and 10.0 are equal. Raises ValueError for what is no version."""
    parts = list(versions.components(version))
    while len(parts) > 1 and parts[-1] == 0:
        parts.pop()
    return tuple(parts)


@dataclass(frozen=True, slots=True)
class Clause:
    """One comparison of the trace: what was asked, what the device has, whether it held."""

    text: str
    actual: str
    held: bool


def matches(found: Filter, device: Mapping[str, Any]) -> tuple[bool, list[Clause]]:
    """Whether a device (attribute → value; missing ones absent or None) fits, and every comparison with its value."""
    trace: list[Clause] = []

    def judge(part: Filter) -> bool:
        if isinstance(part, Not):
            return not judge(part.part)
        if isinstance(part, Joined):
            # Every part is judged, so that the trace is whole.
            results = [judge(one) for one in part.parts]
            return all(results) if part.word == "and" else any(results)
        actual = device.get(part.attribute)
        held = _holds(part, actual)
        shown = "nothing" if actual in (None, "", (), []) else ", ".join(map(str, actual)) if isinstance(actual, list | tuple) else str(actual)
        trace.append(Clause(f"{part.attribute} {part.operator} {part.text}".strip(), shown, held))
        return held

    return judge(found), trace


def _holds(comparison: Comparison, actual: Any) -> bool:
    kind, operator = ATTRIBUTES[comparison.attribute], comparison.operator
    values: list[Any]
    if kind is Kind.TEXTS:
        values = [lower(str(one)) for one in actual or ()]
    elif kind is Kind.VERSION:
        try:
            values = [trimmed(actual)] if actual else []
        except ValueError:
            values = []
    else:
        values = [] if actual is None or actual == "" else [lower(actual) if isinstance(actual, str) else actual]
    if operator == "pr":
        return bool(actual) if kind in (Kind.TEXTS, Kind.TEXT, Kind.TOKEN, Kind.VERSION) else actual is not None
    if operator == "ne":
        return not any(one == comparison.value for one in values)
    return any(_compare(one, operator, comparison.value) for one in values)


def _compare(actual: Any, operator: str, wanted: Any) -> bool:
    if operator == "eq":
        return bool(actual == wanted)
    if operator in _PARTS:
        return bool({"co": wanted in actual, "sw": actual.startswith(wanted), "ew": actual.endswith(wanted)}[operator])
    return bool({"gt": actual > wanted, "ge": actual >= wanted, "lt": actual < wanted, "le": actual <= wanted}[operator])
