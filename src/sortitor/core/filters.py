"""The filter language: the grammar of SCIM 2.0 filters (RFC 7644 §3.4.2.2) over what is known of a
device.

`ownership eq "corporate" and platform eq "android" and not (tags eq "spare")`. One meaning, two
engines: `matches` decides for one device with a trace, the store compiles the same tree to SQL.
Logic is two-valued: a comparison with a missing value is false, `ne` is the opposite of `eq`, and
`pr` asks whether there is a value. Text is compared without regard to case.
"""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime
from enum import StrEnum
from typing import Any, NoReturn

from sortitor.core import versions
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import Basis, IdentifierKind, Ownership, Platform, Stage


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
    #: true or false, written without quotation marks.
    TRUTH = "truth"


_ORDER = ("gt", "ge", "lt", "le")
_PARTS = ("co", "sw", "ew")
OPERATORS: dict[Kind, tuple[str, ...]] = {
    Kind.TEXT: ("eq", "ne", "pr", *_PARTS),
    Kind.TOKEN: ("eq", "ne", "pr"),
    Kind.NUMBER: ("eq", "ne", "pr", *_ORDER),
    Kind.TIME: ("eq", "ne", "pr", *_ORDER),
    Kind.DAY: ("eq", "ne", "pr", *_ORDER),
    Kind.VERSION: ("eq", "ne", "pr", *_ORDER),
    Kind.TEXTS: ("eq", "ne", "pr", *_PARTS),
    Kind.TRUTH: ("eq", "ne"),
}


@dataclass(frozen=True, slots=True)
class Attribute:
    """What a filter can speak of. `of` names the thing whose change moves it; `words` are the
    values that a token can have.
    """

    kind: Kind
    meaning: str
    of: str = "device"
    words: tuple[str, ...] = ()
    #: Whether the mere passing of time changes it.
    moving: bool = False


def _words(words: type[StrEnum]) -> tuple[str, ...]:
    return tuple(word.value for word in words)


#: Attribute → what it is. The store has a column for each.
ATTRIBUTES: dict[str, Attribute] = {
    "stage": Attribute(Kind.TOKEN, "stage of life", words=_words(Stage)),
    "platform": Attribute(Kind.TOKEN, "platform", words=_words(Platform)),
    "ownership": Attribute(Kind.TOKEN, "whose it is", words=_words(Ownership)),
    "ownershipBasis": Attribute(Kind.TOKEN, "who says whose it is", words=_words(Basis)),
    "flag": Attribute(Kind.TOKEN, "reported missing or stolen", words=("missing", "stolen")),
    "osVersion": Attribute(Kind.VERSION, "version of the operating system"),
    "name": Attribute(Kind.TEXT, "name"),
    "maker": Attribute(Kind.TEXT, "maker"),
    "model": Attribute(Kind.TEXT, "model"),
    "productCode": Attribute(Kind.TEXT, "product code"),
    "site": Attribute(Kind.TEXT, "site"),
    "department": Attribute(Kind.TEXT, "department that the device belongs to"),
    "assetTag": Attribute(Kind.TEXT, "asset tag"),
    "note": Attribute(Kind.TEXT, "note"),
    "order": Attribute(Kind.TEXT, "name of its order"),
    "order.supplier": Attribute(Kind.TEXT, "supplier of its order", "order"),
    "order.orderedOn": Attribute(Kind.DAY, "day of its order", "order"),
    "purchaseOrder": Attribute(Kind.TEXT, "purchase order"),
    "supplier": Attribute(Kind.TEXT, "supplier"),
    "tags": Attribute(Kind.TEXTS, "any of its tags"),
    **{
        kind.value: Attribute(Kind.TEXTS, f"any {kind.value} of it", "identifiers")
        for kind in IdentifierKind
    },
    "purchasedOn": Attribute(Kind.DAY, "day of purchase"),
    "warrantyUntil": Attribute(Kind.DAY, "end of its warranty"),
    "enrolledAt": Attribute(Kind.TIME, "when it arrived"),
    "retireOn": Attribute(Kind.DAY, "day on which it is retired, of a dormant device"),
    "lastSeenAt": Attribute(Kind.TIME, "last sign of life", moving=True),
    "id": Attribute(Kind.NUMBER, "number of the device"),
    "lot": Attribute(Kind.NUMBER, "number of the lot it came with"),
    "idleDays": Attribute(Kind.NUMBER, "whole days since its last sign of life", moving=True),
    "ageDays": Attribute(
        Kind.NUMBER, "whole days since its purchase, or since it became known", moving=True
    ),
    "daysToWarrantyEnd": Attribute(
        Kind.NUMBER, "whole days until its warranty ends, negative afterwards", moving=True
    ),
    "held": Attribute(Kind.TRUTH, "whether somebody keeps it out of sweeps", "hold", moving=True),
    "person.userName": Attribute(Kind.TEXT, "user name of its person", "person"),
    "person.name": Attribute(Kind.TEXT, "name of its person", "person"),
    "person.mail": Attribute(Kind.TEXT, "mail of its person", "person"),
    "person.department": Attribute(Kind.TEXT, "department of its person", "person"),
    "person.site": Attribute(Kind.TEXT, "site of its person", "person"),
    "person.left": Attribute(Kind.TRUTH, "whether its person has left", "person"),
    "person.devices": Attribute(
        Kind.NUMBER, "devices of its person that count to the quota", "person", moving=True
    ),
    "person.groups": Attribute(Kind.TEXTS, "any group of its person", "person"),
    "cohorts": Attribute(Kind.TEXTS, "any cohort it is in", "cohort"),
    # Cohorts decide over items: none of them is kept by what it gets.
    "items": Attribute(Kind.TEXTS, "any item that it gets or may take", "kit", moving=True),
    "items.working": Attribute(Kind.TEXTS, "any item that it is busy with", "kit", moving=True),
    "items.done": Attribute(Kind.TEXTS, "any item that it has finished", "kit", moving=True),
    "items.failed": Attribute(Kind.TEXTS, "any item that failed on it", "kit", moving=True),
}
_BY_LOWER = {name.lower(): name for name in ATTRIBUTES}

Value = str | float | bool | datetime | date | tuple[int, ...] | None


@dataclass(frozen=True, slots=True)
class Comparison:
    """`attribute operator value`; the value is in the form of the attribute's kind, None for
    `pr`.
    """

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


def one_of(attribute: str, words: Iterable[str]) -> Filter:
    """That an attribute is one of some words."""
    parts = tuple(
        Comparison(attribute, "eq", lower(word), json.dumps(word)) for word in sorted(words)
    )
    return parts[0] if len(parts) == 1 else Joined("or", parts)


def all_of(first: Filter, *others: Filter | None) -> Filter:
    """What holds where every one of these does; None says nothing."""
    parts = tuple(part for said in (first, *others) for part in conjuncts(said))
    return Joined("and", parts) if len(parts) > 1 else parts[0]


def conjuncts(found: Filter | None) -> tuple[Filter, ...]:
    """What must hold all at once for the filter to hold."""
    return (
        found.parts
        if isinstance(found, Joined) and found.word == "and"
        else ()
        if found is None
        else (found,)
    )


def veiled(found: Filter) -> Filter:
    """The filter as it is for those who may not see the identifiers of personal devices: as if
    these had none, so that nobody finds them out letter by letter.
    """
    if isinstance(found, Not):
        return Not(veiled(found.part))
    if isinstance(found, Joined):
        return Joined(found.word, tuple(veiled(part) for part in found.parts))
    if ATTRIBUTES[found.attribute].of != "identifiers":
        return found
    if found.operator == "ne":
        return Not(veiled(replace(found, operator="eq")))
    return Joined("and", (found, Not(one_of("ownership", ["personal"]))))


_TOKEN = re.compile(
    r'\s*(?:(?P<paren>[()])|(?P<string>"(?:[^"\\]|\\.)*")|(?P<word>[A-Za-z][\w.$-]*)|(?P<number>-?\d+(?:\.\d+)?(?![\w.]))|(?P<end>$)|(?P<other>\S))',
    re.DOTALL,
)
_LITERALS = {"null": None, "true": True, "false": False}
MOST_CHARACTERS = 4_000
_DEEPEST = 40


def fault(text: str, place: int, what: str, corrected: str = "") -> NoReturn:
    """Raise BadInput with the column and a caret under it, and the corrected filter if known."""
    detail = (
        f"Column {place + 1}: {what}{'' if what.endswith('?') else '.'}\n{text}\n{' ' * place}^"
    )
    if corrected:
        detail += f"\nCorrected: {corrected}"
    raise BadInput(
        "bad_filter",
        detail,
        "Take the corrected filter." if corrected else "Correct the filter.",
        (FieldProblem("/filter", "bad_filter", detail, corrected),),
    )


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
            fault(
                self.text,
                self.start,
                (
                    "an attribute is missing here"
                    if self.kind == "end"
                    else f"an attribute should stand here, not {self.token!r}"
                ),
            )
        name = _BY_LOWER.get(self.token.lower())
        if name is None:
            begun = [known for known in _BY_LOWER if known.startswith(self.token.lower())]
            near = begun or difflib.get_close_matches(self.token.lower(), list(_BY_LOWER), 1)
            fault(
                self.text,
                self.start,
                f"{self.token!r} is not an attribute"
                + (
                    f"; did you mean {_BY_LOWER[near[0]]}?"
                    if near
                    else f"; known are {', '.join(ATTRIBUTES)}"
                ),
            )
        self.step()
        return self.compared(name)

    def compared(self, name: str) -> Filter:
        allowed, operator = OPERATORS[ATTRIBUTES[name].kind], self.token.lower()
        if self.kind != "word" or operator not in {op for ops in OPERATORS.values() for op in ops}:
            fault(self.text, self.start, f"{name} is followed by one of {', '.join(allowed)}")
        if operator not in allowed:
            fault(
                self.text,
                self.start,
                f"{name} cannot be compared by {operator}; it takes {', '.join(allowed)}",
            )
        self.step()
        if operator == "pr":
            return Comparison(name, "pr")
        started, given = self.start, self.value()
        if given is None:
            if operator not in ("eq", "ne"):
                fault(self.text, started, f"null is compared by eq or ne, not by {operator}")
            return Not(Comparison(name, "pr")) if operator == "eq" else Comparison(name, "pr")
        return Comparison(
            name,
            operator,
            self.typed(name, given, started),
            json.dumps(given, ensure_ascii=False) if not isinstance(given, float) else f"{given:g}",
        )

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
        elif kind == "word" and token.lower() in _LITERALS:
            given = _LITERALS[token.lower()]
        else:
            fault(
                self.text,
                self.start,
                "a value should stand here: a text in quotation marks, a number, true, false or"
                " null",
            )
        self.step()
        return given

    def typed(self, name: str, given: Any, place: int) -> Value:
        kind = ATTRIBUTES[name].kind
        if kind is Kind.NUMBER:
            return (
                given
                if isinstance(given, float)
                else fault(
                    self.text,
                    place,
                    f"{name} is compared with a number, written without quotation marks",
                )
            )
        if kind is Kind.TRUTH:
            return (
                given
                if isinstance(given, bool)
                else fault(
                    self.text,
                    place,
                    f"{name} is compared with true or false, written without quotation marks",
                )
            )
        if not isinstance(given, str):
            fault(self.text, place, f"{name} is compared with a text in quotation marks")
        try:
            if kind is Kind.VERSION:
                return trimmed(given)
            if kind is Kind.DAY:
                return date.fromisoformat(given)
            if kind is Kind.TIME:
                moment = datetime.fromisoformat(given)
                return (
                    moment
                    if moment.tzinfo
                    else fault(
                        self.text, place, "a time needs its zone, such as 2026-03-31T09:00:00Z"
                    )
                )
        except ValueError:
            form = {
                Kind.VERSION: "a version such as 14 or 10.0.1",
                Kind.DAY: "a date such as 2026-03-31",
            }.get(kind, "a time such as 2026-03-31T09:00:00Z")
            fault(self.text, place, f"{name} is compared with {form}")
        words = ATTRIBUTES[name].words
        if kind is Kind.TOKEN and lower(given) not in words:
            near = difflib.get_close_matches(lower(given), words, 1)
            fault(
                self.text,
                place,
                f"{given!r} is not a {name}"
                + (f"; did you mean {near[0]}?" if near else f"; there are {', '.join(words)}"),
            )
        return lower(given)


def parse(text: str) -> Filter:
    """The tree of a filter.

    Raises BadInput with the column, a caret under the fault, and the corrected filter where it can
    be told what is meant.
    """
    try:
        return read(text)
    except BadInput:
        # Only then: its tables take as long to read as this whole module.
        from sortitor.core.filter_repairs import repaired

        repair = repaired(text, ATTRIBUTES, read) if len(text) <= MOST_CHARACTERS else None
        if repair is None:
            raise
        first = repair.mistakes[0]
        fault(text, first.place, first.words, repair.text)


def read(text: str) -> Filter:
    """The same without a look at what may be meant."""
    if len(text) > MOST_CHARACTERS:
        raise BadInput(
            "filter_too_long",
            f"The filter has {len(text):,} characters; at most {MOST_CHARACTERS:,} are read.",
            "Use a list instead.",
        )
    parser = _Parser(text)
    found = parser.joined("or", 0)
    if parser.kind != "end":
        fault(
            text,
            parser.start,
            (
                f"“and” or “or” should stand before {parser.token!r}"
                if parser.token != ")"
                else "a parenthesis that was never opened"
            ),
        )
    return found


def attributes(found: Filter) -> frozenset[str]:
    """The attributes that a filter speaks of."""
    if isinstance(found, Comparison):
        return frozenset({found.attribute})
    parts = (found.part,) if isinstance(found, Not) else found.parts
    return frozenset[str]().union(*map(attributes, parts))


def moving(found: Filter) -> bool:
    """Whether the mere passing of time can change what the filter holds."""
    return any(ATTRIBUTES[name].moving for name in attributes(found))


def as_tree(found: Filter) -> dict[str, Any]:
    """The filter as nested objects, for an editor: `{attribute, operator, value}`, `{join, parts}`,
    `{not}`.
    """
    if isinstance(found, Not):
        return {"not": as_tree(found.part)}
    if isinstance(found, Joined):
        return {"join": found.word, "parts": [as_tree(part) for part in found.parts]}
    return {
        "attribute": found.attribute,
        "operator": found.operator,
        "value": json.loads(found.text) if found.text else None,
    }


def as_text(found: Filter) -> str:
    """The filter as it is written; parsing it gives a filter of the same meaning."""
    if isinstance(found, Not):
        return f"not ({as_text(found.part)})"
    if isinstance(found, Joined):
        # `and` binds closer, so only an `or` inside an `and` needs its parentheses.
        inner = [
            (
                f"({as_text(part)})"
                if isinstance(part, Joined) and part.word != found.word and found.word == "and"
                else as_text(part)
            )
            for part in found.parts
        ]
        return f" {found.word} ".join(inner)
    return f"{found.attribute} {found.operator} {found.text}".strip()


def lower(text: str) -> str:
    """Lower case letter by letter, as the database has it: no letter becomes two, none depends on
    its neighbours.
    """
    return "".join(
        low if len(low := letter.lower()) == 1 else "i" if letter == "İ" else letter
        for letter in text
    )


def trimmed(version: str) -> tuple[int, ...]:
    """The components without trailing zeros, so that 10 and 10.0 are equal.

    Raises ValueError for what is no version.
    """
    parts = list(versions.components(version))
    while len(parts) > 1 and parts[-1] == 0:
        parts.pop()
    return tuple(parts)


@dataclass(frozen=True, slots=True)
class Clause:
    """One comparison of the trace: what was asked, what the device has, whether it matched, and
    whether the whole turned on it.
    """

    text: str
    actual: str
    matched: bool
    decides: bool = True


def matches(found: Filter, device: Mapping[str, Any]) -> tuple[bool, list[Clause]]:
    """Whether a device (attribute → value; missing ones absent or None) fits, and every comparison
    with its value.
    """
    trace: list[Clause] = []

    def judge(part: Filter) -> tuple[bool, set[int]]:
        """Whether a part holds, and the places in the trace that it turns on."""
        if isinstance(part, Not):
            held, deciding = judge(part.part)
            return not held, deciding
        if isinstance(part, Joined):
            # Every part is judged, so that the trace is whole.
            results = [judge(one) for one in part.parts]
            whole = (all if part.word == "and" else any)(held for held, _ in results)
            # One that fails decides over all, and so does one that holds where one is enough.
            return whole, set().union(*(places for held, places in results if held == whole))
        actual = device.get(part.attribute)
        matched = holds_for(part, actual)
        shown = (
            "nothing"
            if actual in (None, "", (), [])
            else ", ".join(map(str, actual))
            if isinstance(actual, list | tuple)
            else str(actual)
        )
        trace.append(
            Clause(f"{part.attribute} {part.operator} {part.text}".strip(), shown, matched)
        )
        return matched, {len(trace) - 1}

    held, deciding = judge(found)
    return held, [replace(one, decides=place in deciding) for place, one in enumerate(trace)]


def holds_for(comparison: Comparison, actual: Any) -> bool:
    """Whether one comparison holds for a device's value of its attribute."""
    kind, operator = ATTRIBUTES[comparison.attribute].kind, comparison.operator
    values: list[Any]
    if kind is Kind.TEXTS:
        values = [lower(str(one)) for one in actual or ()]
    elif kind is Kind.TRUTH:
        values = [bool(actual)]
    elif kind is Kind.VERSION:
        try:
            values = [trimmed(actual)] if actual else []
        except ValueError:
            values = []
    else:
        values = (
            []
            if actual is None or actual == ""
            else [lower(actual) if isinstance(actual, str) else actual]
        )
    if operator == "pr":
        return (
            bool(actual)
            if kind in (Kind.TEXTS, Kind.TEXT, Kind.TOKEN, Kind.VERSION)
            else actual is not None
        )
    if operator == "ne":
        return not any(one == comparison.value for one in values)
    return any(_compare(one, operator, comparison.value) for one in values)


def _compare(actual: Any, operator: str, wanted: Any) -> bool:
    if operator == "eq":
        return bool(actual == wanted)
    if operator in _PARTS:
        return bool(
            {
                "co": wanted in actual,
                "sw": actual.startswith(wanted),
                "ew": actual.endswith(wanted),
            }[operator]
        )
    return bool(
        {
            "gt": actual > wanted,
            "ge": actual >= wanted,
            "lt": actual < wanted,
            "le": actual <= wanted,
        }[operator]
    )
