"""Filters as people type them, and what they mean in the filter language: the corrected text with
every mistake in words.
"""

from __future__ import annotations

import difflib
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

from sortitor.core.errors import BadInput

_TOKEN = re.compile(
    r"\s*(?:(?P<paren>[()])|(?P<sign>==|=~|!=|<>|>=|=>|<=|=<|&&|\|\||[=<>!~&|,])"
    r"|(?P<quoted>\"(?:[^\"\\]|\\.)*\"|[“”„«»][^“”„«»\"]*[“”„«»\"]|\"[^“”\"]*[”“]"
    r"|['‘’‚`][^'‘’‚`]*['‘’`])"
    r"|(?P<day>\d{4}-\d\d-\d\d[\w:.+-]*|\d\d?\.\d\d?\.\d{4})|(?P<number>-?\d+(?:\.\d+)?(?![\w.]))"
    r"|(?P<word>[\w%*][\w.$%*@/:+-]*)|(?P<open>[\"“”„«»'‘’‚`])|(?P<other>\S))"
)
#: What people call the attributes, without blanks and in lower case.
_NAMES = {
    "user": "person.userName", "username": "person.userName", "person": "person.name",
    "owner": "person.name", "assignee": "person.name", "assignedto": "person.name",
    "employee": "person.name", "mail": "person.mail", "email": "person.mail",
    "group": "person.groups", "groups": "person.groups", "location": "site", "place": "site",
    "office": "site", "ship": "site", "vessel": "site", "harbour": "site", "port": "site",
    "serialnumber": "serial", "serialno": "serial", "sn": "serial", "imeinumber": "imei",
    "macaddress": "mac", "os": "platform", "operatingsystem": "platform", "system": "platform",
    "version": "osVersion", "osversion": "osVersion", "manufacturer": "maker", "vendor": "maker",
    "brand": "maker", "make": "maker", "devicename": "name", "hostname": "name",
    "status": "stage", "state": "stage", "tag": "tags", "label": "tags", "labels": "tags",
    "cohort": "cohorts", "dept": "department", "lastseen": "lastSeenAt", "seen": "lastSeenAt",
    "lastcheckin": "lastSeenAt", "enrolled": "enrolledAt", "arrived": "enrolledAt",
    "idle": "idleDays", "age": "ageDays", "warranty": "warrantyUntil",
    "warrantyend": "warrantyUntil", "purchased": "purchasedOn", "purchasedate": "purchasedOn",
    "bought": "purchasedOn", "asset": "assetTag", "assettag": "assetTag",
    "inventorynumber": "assetTag", "partnumber": "productCode", "sku": "productCode",
    "po": "purchaseOrder", "ordernumber": "order", "reseller": "supplier", "dealer": "supplier",
    "owned": "ownership", "ownertype": "ownership", "missing": "flag", "stolen": "flag",
    "left": "person.left", "hold": "held", "deviceid": "id", "number": "id",
}  # fmt: skip
#: What people call the values.
_VALUES = {
    "company": "corporate", "business": "corporate", "work": "corporate", "private": "personal",
    "byod": "personal", "own": "personal", "mac": "macos", "osx": "macos", "iphone": "ios",
    "ipad": "ios", "ipados": "ios", "win": "windows", "inuse": "active", "lost": "missing",
    "quiet": "dormant", "waiting": "parked", "expected": "awaited",
}  # fmt: skip
_SIGNS = {
    "=": "eq", "==": "eq", "!=": "ne", "<>": "ne", ">": "gt", ">=": "ge", "=>": "ge", "<": "lt",
    "<=": "le", "=<": "le", "~": "co", "=~": "co",
}  # fmt: skip
#: Words for a comparison, the longest first.
_PHRASES = (
    ("is not null", "pr"), ("is not empty", "pr"), ("is not blank", "pr"), ("is not missing", "pr"),
    ("is not in", "not in"), ("not in", "not in"), ("is in", "in"), ("in", "in"),
    ("is null", "absent"), ("is empty", "absent"), ("is blank", "absent"), ("is missing", "absent"),
    ("is none", "absent"), ("does not exist", "absent"), ("not exists", "absent"),
    ("is not equal to", "ne"), ("not equal to", "ne"), ("not equals", "ne"), ("is not", "ne"),
    ("is greater than or equal to", "ge"), ("greater than or equal to", "ge"), ("at least", "ge"),
    ("is at least", "ge"), ("is less than or equal to", "le"), ("less than or equal to", "le"),
    ("at most", "le"), ("is at most", "le"), ("is greater than", "gt"), ("greater than", "gt"),
    ("is more than", "gt"), ("more than", "gt"), ("is after", "gt"), ("after", "gt"),
    ("is less than", "lt"), ("less than", "lt"), ("is before", "lt"), ("before", "lt"),
    ("older than", "gt"), ("newer than", "lt"), ("not like", "not like"), ("is like", "like"),
    ("like", "like"), ("ilike", "like"), ("matches", "like"), ("does not contain", "not co"),
    ("not contains", "not co"), ("contains", "co"), ("contain", "co"), ("has", "co"),
    ("starts with", "sw"), ("start with", "sw"), ("startswith", "sw"), ("begins with", "sw"),
    ("beginswith", "sw"), ("ends with", "ew"), ("endswith", "ew"), ("between", "between"),
    ("is equal to", "eq"), ("equal to", "eq"), ("equals", "eq"), ("equal", "eq"), ("exists", "pr"),
    ("is present", "pr"), ("present", "pr"), ("is set", "pr"), ("is known", "pr"), ("is", "eq"),
    ("eq", "eq"), ("ne", "ne"), ("co", "co"), ("sw", "sw"), ("ew", "ew"), ("pr", "pr"),
    ("gt", "gt"), ("ge", "ge"), ("gte", "ge"), ("lt", "lt"), ("le", "le"), ("lte", "le"),
    ("neq", "ne"),
)  # fmt: skip
_PLAIN = ("eq", "ne", "co", "sw", "ew", "pr", "gt", "ge", "lt", "le")
_JOINS = {"and": "and", "or": "or", "&&": "and", "&": "and", ",": "and", "||": "or", "|": "or"}
_TRUTHS = {
    **dict.fromkeys(("true", "yes", "1"), "true"),
    **dict.fromkeys(("false", "no", "0"), "false"),
}
_DEEPEST = 40


@dataclass(frozen=True, slots=True)
class Mistake:
    """What was wrong, and at which place of the text, counted from 0."""

    place: int
    words: str


@dataclass(frozen=True, slots=True)
class Repair:
    """The corrected filter, and what was corrected."""

    text: str
    mistakes: tuple[Mistake, ...]


@dataclass(frozen=True, slots=True)
class _Piece:
    kind: str
    text: str
    place: int


class Known(Protocol):
    """An attribute of the language: what it holds, and the words that it can have."""

    @property
    def kind(self) -> str: ...

    @property
    def words(self) -> tuple[str, ...]: ...


class _Lost(Exception):
    """What is meant cannot be told."""


def repaired(
    text: str, attributes: Mapping[str, Known], read: Callable[[str], object]
) -> Repair | None:
    """What a filter with mistakes means; None where that cannot be told.

    attributes: the names of the language, with their kinds and words; read: raises BadInput for a
    text that is no filter
    """
    try:
        reader = _Reader(text, attributes)
        found = reader.joined(0)
        if reader.piece.kind != "end":
            return None
        read(found)
    except (_Lost, BadInput, RecursionError):
        return None
    mistakes = sorted(reader.mistakes, key=lambda mistake: mistake.place)
    return Repair(found, tuple(mistakes)) if mistakes else None


def asks(text: str) -> Repair | None:
    """What is probably meant by a comparison with an empty text, which no device fits."""
    found = list(re.finditer(r'([A-Za-z][\w.]*)\s+(eq|ne)\s+""', text, re.IGNORECASE))
    if not found:
        return None

    def meant(one: re.Match[str]) -> str:
        return f"not ({one[1]} pr)" if one[2].lower() == "eq" else f"{one[1]} pr"

    corrected = re.sub(r'([A-Za-z][\w.]*)\s+(eq|ne)\s+""', meant, text, flags=re.IGNORECASE)
    words = f"No {found[0][1]} is an empty text. Do you mean {meant(found[0])}?"
    return Repair(corrected, (Mistake(found[0].start(), words),))


@dataclass(slots=True)
class _Reader:
    """Reads what may be meant, and writes it as it should be."""

    text: str
    attributes: Mapping[str, Known]
    mistakes: list[Mistake] = field(default_factory=list)
    _pieces: list[_Piece] = field(default_factory=list)
    _at: int = 0

    def __post_init__(self) -> None:
        place = 0
        while found := _TOKEN.match(self.text, place):
            kind = str(found.lastgroup)
            self._pieces.append(_Piece(kind, found[kind], found.start(kind)))
            place = found.end()
        self._pieces.append(_Piece("end", "", len(self.text)))

    @property
    def piece(self) -> _Piece:
        return self._pieces[self._at]

    def step(self) -> _Piece:
        piece = self.piece
        if piece.kind != "end":
            self._at += 1
        return piece

    def wrong(self, place: int, words: str) -> None:
        self.mistakes.append(Mistake(place, words))

    def joined(self, depth: int) -> str:
        if depth > _DEEPEST:
            raise _Lost
        parts = [self.single(depth)]
        while self.piece.kind != "end" and self.piece.text != ")":
            word = self.piece.text.lower()
            if word in _JOINS:
                if self.piece.text.lower() not in ("and", "or"):
                    self.wrong(self.piece.place, f"“{self.piece.text}” is written {_JOINS[word]}")
                self.step()
                parts.append(_JOINS[word])
            else:
                self.wrong(
                    self.piece.place,
                    "“and” or “or” should stand between two comparisons; “and” is taken",
                )
                parts.append("and")
            parts.append(self.single(depth))
        return " ".join(parts)

    def single(self, depth: int) -> str:
        piece = self.piece
        if piece.text == "(" and piece.kind == "paren":
            self.step()
            return f"({self._until_closed(piece.place, depth)})"
        if piece.text == "!" or piece.text.lower() == "not":
            self.step()
            if piece.text == "!":
                self.wrong(piece.place, "“!” is written not ( … )")
            if self.piece.text == "(":
                opened = self.step().place
                return f"not ({self._until_closed(opened, depth)})"
            if piece.text != "!":
                self.wrong(self.piece.place, "“not” is followed by parentheses")
            return f"not ({self.single(depth + 1)})"
        return self.comparison()

    def _until_closed(self, opened: int, depth: int) -> str:
        inner = self.joined(depth + 1)
        if self.piece.text == ")":
            self.step()
        else:
            self.wrong(opened, "this parenthesis is not closed")
        return inner

    def comparison(self) -> str:
        name = self.attribute()
        place = self.piece.place
        operator, given = self.operator()
        if operator in ("pr", "absent"):
            if operator == "absent":
                self.wrong(place, f"“{given}” is written not ({name} pr)")
                return f"not ({name} pr)"
            if given != "pr":
                self.wrong(place, f"“{given}” is written {name} pr")
            return f"{name} pr"
        if operator in ("in", "not in"):
            return self.one_of(name, operator, place)
        if operator == "between":
            self.wrong(place, f"“between” is written {name} ge … and {name} le …")
            low = self.value(name)
            if self.step().text.lower() not in ("and", "&", "&&", ","):
                raise _Lost
            return f"({name} ge {low} and {name} le {self.value(name)})"
        if operator in ("like", "not like"):
            return self.like(name, operator, place)
        if operator == "not co":
            self.wrong(place, f"“{given}” is written not ({name} co …)")
            return f"not ({name} co {self.value(name)})"
        if given != operator:
            self.wrong(place, f"“{given}” is written {operator}")
        return self.against(name, operator)

    def against(self, name: str, operator: str) -> str:
        place = self.piece.place
        value = self.value(name)
        if value == '""' and operator in ("eq", "ne"):
            written = f"not ({name} pr)" if operator == "eq" else f"{name} pr"
            self.wrong(place, f"no {name} is an empty text: “{written}” asks whether there is one")
            return written
        return f"{name} {operator} {value}"

    def attribute(self) -> str:
        """The longest run of words that names an attribute."""
        by_key = {_key(name): name for name in self.attributes} | _NAMES
        words: list[_Piece] = []
        while len(words) < 3 and self._pieces[self._at + len(words)].kind == "word":
            words.append(self._pieces[self._at + len(words)])
        for many in range(len(words), 0, -1):
            written = " ".join(piece.text for piece in words[:many])
            known = by_key.get(_key(written))
            if known is not None:
                self._at += many
                if written.lower() != known.lower():
                    self.wrong(words[0].place, f"“{written}” is called {known} here")
                return known
        if words:
            near = difflib.get_close_matches(_key(words[0].text), list(by_key), 1, 0.72)
            if near:
                self._at += 1
                known = by_key[near[0]]
                self.wrong(
                    words[0].place, f"“{words[0].text}” is not an attribute; did you mean {known}?"
                )
                return known
        raise _Lost

    def operator(self) -> tuple[str, str]:
        """What the comparison is, and how it is written."""
        piece = self.piece
        if piece.kind == "sign" and piece.text in _SIGNS:
            self.step()
            return _SIGNS[piece.text], piece.text
        following = [one.text.lower() for one in self._pieces[self._at : self._at + 6]]
        for phrase, operator in sorted(_PHRASES, key=lambda pair: -len(pair[0].split())):
            words = phrase.split()
            if following[: len(words)] == words:
                self._at += len(words)
                plain = operator in _PLAIN and phrase == operator
                return operator, operator if plain else phrase
        if piece.kind in ("quoted", "number", "word", "open") and piece.text.lower() not in _JOINS:
            self.wrong(piece.place, "a comparison such as eq is missing here")
            return "eq", "eq"
        raise _Lost

    def one_of(self, name: str, operator: str, place: int) -> str:
        self.wrong(place, f"“{operator}” is written as {name} eq … or {name} eq …")
        closing = {"(": ")", "[": "]", "{": "}"}.get(self.piece.text)
        if closing is not None:
            self.step()
        values = [self.value(name)]
        while self.piece.text in (",", ";", "|") or self.piece.text.lower() == "or":
            self.step()
            values.append(self.value(name))
        if closing is not None and self.step().text != closing:
            raise _Lost
        each = " or ".join(f"{name} eq {value}" for value in values)
        return f"not ({each})" if operator == "not in" else f"({each})"

    def like(self, name: str, operator: str, place: int) -> str:
        value = json.loads(self.value(name))
        if not isinstance(value, str):
            raise _Lost
        bare = value.strip("%*")
        begins, ends = value.startswith(("%", "*")), value.endswith(("%", "*"))
        word = "co" if begins == ends else "ew" if begins else "sw"
        if not bare or re.search(r"[%*]", bare):
            raise _Lost
        self.wrong(place, f"“{operator}” is written {word}")
        written = f"{name} {word} {json.dumps(bare, ensure_ascii=False)}"
        return f"not ({written})" if operator == "not like" else written

    def value(self, name: str) -> str:
        """The value as it should be written for this attribute."""
        piece = self.piece
        given = self._given()
        attribute = self.attributes[name]
        kind = str(attribute.kind)
        quoted = piece.kind == "quoted" or piece.kind == "open"
        if given.lower() == "null" and not quoted:
            return "null"
        if kind == "number":
            if quoted:
                self.wrong(piece.place, "a number is written without quotation marks")
            if not re.fullmatch(r"-?\d+(\.\d+)?", given.strip()):
                raise _Lost
            return given.strip()
        if kind == "truth":
            truth = _TRUTHS.get(given.strip().lower())
            if truth is None:
                raise _Lost
            if quoted or given.strip() != truth:
                self.wrong(
                    piece.place, f"{name} is true or false, without quotation marks: {truth}"
                )
            return truth
        if not quoted:
            self.wrong(piece.place, "the quotation marks are missing")
        elif piece.text[:1] != '"' or piece.text[-1:] != '"':
            self.wrong(piece.place, 'quotation marks are straight ones: "')
        written = self._in_form(name, kind, attribute.words, given, piece.place)
        return json.dumps(written, ensure_ascii=False)

    def _in_form(self, name: str, kind: str, words: tuple[str, ...], given: str, place: int) -> str:
        if kind in ("day", "time") and (found := re.fullmatch(r"(\d\d?)\.(\d\d?)\.(\d{4})", given)):
            given = f"{found[3]}-{int(found[2]):02}-{int(found[1]):02}"
            self.wrong(place, "a date is written such as 2026-03-31")
        if kind == "time" and re.fullmatch(r"\d{4}-\d\d-\d\d", given):
            self.wrong(place, "a time has its hour and zone, such as 2026-03-31T00:00:00Z")
            return f"{given}T00:00:00Z"
        if words and given.lower() not in words and _VALUES.get(_key(given)) in words:
            self.wrong(place, f"“{given}” is called {_VALUES[_key(given)]} here")
            return _VALUES[_key(given)]
        if words and given.lower() not in words:
            near = difflib.get_close_matches(given.lower(), words, 1)
            begun = [word for word in words if word.startswith(given.lower())]
            if not near and not begun:
                raise _Lost
            self.wrong(place, f"“{given}” is not a {name}; did you mean {(begun or near)[0]}?")
            return (begun or near)[0]
        return given

    def _given(self) -> str:
        """The bare text of a value, in whatever marks it stands, or in none."""
        piece = self.step()
        if piece.kind == "quoted":
            if piece.text.startswith('"') and piece.text.endswith('"'):
                try:
                    return str(json.loads(piece.text))
                except ValueError as error:
                    raise _Lost from error
            return piece.text[1:-1]
        if piece.kind in ("number", "day"):
            return piece.text
        if piece.kind == "open":
            return self._unclosed(piece)
        if piece.kind != "word" or piece.text.lower() in ("and", "or", "not"):
            raise _Lost
        parts = [piece.text]
        while self.piece.kind in ("word", "number") and not self._is_new():
            parts.append(self.step().text)
        return " ".join(parts)

    def _is_new(self) -> bool:
        """Whether the next word begins something else than a value of several words."""
        following = self._pieces[self._at + 1]
        if self.piece.text.lower() in ("and", "or", "not"):
            return True
        return following.kind == "sign" or following.text.lower() in _PLAIN

    def _unclosed(self, opened: _Piece) -> str:
        """A quotation mark without its partner: the text goes up to the next “and” or “or”."""
        parts = []
        while self.piece.kind in ("word", "number") and not self._is_new():
            parts.append(self.step().text)
        if not parts:
            raise _Lost
        self.wrong(opened.place, "this quotation mark has no partner")
        return " ".join(parts)


def _key(text: str) -> str:
    return re.sub(r"[\s_.\-]", "", text.lower())
