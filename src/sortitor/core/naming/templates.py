"""Naming templates: `{site|upper|first 3}-{serial|last 6}`, `DECK-{n|pad 4}`.

A template is text with fields in braces. A field is a device attribute, `n` (a counter of the
template) or `check` (ISO 7064 MOD 37,36 over the rest); filters follow it after `|`. A `~` before
the field allows it to be shortened from the left when the whole is too long.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import Field, model_validator

from sortitor.core import filters
from sortitor.core.documents import Document, NamedDocument
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import Filter
from sortitor.core.platforms import CATALOGUE
from sortitor.core.vocabulary import Platform

#: What a field may name → the attribute that it takes; columns of the frames given to `compose`.
FIELDS = {
    "serial": "serial",
    "imei": "imei",
    "meid": "meid",
    "eid": "eid",
    "mac": "mac",
    "uuid": "uuid",
    "platform": "platform",
    "os_version": "osVersion",
    "maker": "maker",
    "model": "model",
    "product_code": "productCode",
    "ownership": "ownership",
    "order_name": "order",
    "order_supplier": "order.supplier",
    "ordered_on": "order.orderedOn",
    "purchase_order": "purchaseOrder",
    "purchased_on": "purchasedOn",
    "supplier": "supplier",
    "site": "site",
    "department": "department",
    "asset_tag": "assetTag",
    "person": "person.userName",
    "person_name": "person.name",
    "person_mail": "person.mail",
    "person_department": "person.department",
    "person_site": "person.site",
}
#: `tag.deck` is what follows `deck:` in a device's tags.
TAG = "tag."
SPECIAL = ("n", "check")
_TAG_FIELD = r"tag\.[\w-]{1,40}"
_TOKEN = re.compile(r"\{([^{}]*)\}|([^{}]+)")
#: What a device name may look like on any platform.
ALLOWED = r"^[A-Za-z0-9]([A-Za-z0-9\-]*[A-Za-z0-9])?$"
#: Characters of a name where the platform is not known.
LONGEST = 63
_PLAIN_FILTERS = ("upper", "lower", "ascii", "letters", "digits")
_NUMBERED_FILTERS = ("first", "last", "pad")
#: What a field can be put through: `{site|upper|first 3}`.
FILTERS = (*_PLAIN_FILTERS, *(f"{name} N" for name in _NUMBERED_FILTERS))


class Template(NamedDocument):
    """A naming template, such as `{site|upper|first 3}-{n|pad 4}`."""

    pattern: str = Field(min_length=1, max_length=200, description="Text with fields in braces.")
    platforms: tuple[Platform, ...] = Field(
        default=(), description="The platforms that it names; none means all."
    )
    devices: str | None = Field(
        default=None,
        max_length=4_000,
        description="A filter over the devices that it names; null means all.",
        examples=['cohorts eq "Bridge"'],
    )

    @property
    def audience(self) -> Filter | None:
        """Its filter, read."""
        return filters.parse(self.devices) if self.devices else None

    @property
    def fields(self) -> frozenset[str]:
        """The fields of devices that it takes."""
        used = {piece.field for piece in parse(self.pattern)}
        return frozenset(used - {"", *SPECIAL})

    def check(self) -> None:
        """Raise BadInput with the column and a caret under the fault."""
        for piece in parse(self.pattern):
            if piece.field == "n" and (piece.shrinks or _cutting(piece)):
                what = "a counter that is cut gives the same name again and again"
                _fault(self.pattern, self.pattern.index("{"), what)

    def fits(self, facts: Mapping[str, Any]) -> bool:
        """Whether the template names a device of these facts (attribute → value)."""
        if self.platforms and facts.get("platform") not in self.platforms:
            return False
        audience = self.audience
        return audience is None or filters.matches(audience, facts)[0]


class Naming(Document):
    """The templates in order; the first that fits names a device."""

    templates: tuple[Template, ...] = Field(max_length=200, description="In order.")

    @model_validator(mode="before")
    @classmethod
    def _from_a_list(cls, value: Any) -> Any:
        """Older journal entries keep the bare list of templates."""
        return {"templates": value} if isinstance(value, list | tuple) else value

    def check(self) -> None:
        """Raise BadInput for a template that cannot be read, or a name that stands twice."""
        if not self.templates:
            raise BadInput("no_templates", "There must be at least one template.", "Add one.")
        for place, problem in self.problems():
            raise BadInput(
                code=problem.code,
                detail=f"Template {self.templates[place].name!r}: {problem.detail}",
                remedy="Correct the template.",
                problems=(problem,),
            )

    def problems(self) -> Iterator[tuple[int, FieldProblem]]:
        """Every fault with the place of its template."""
        names = [template.name.casefold() for template in self.templates]
        for place, template in enumerate(self.templates):
            for part, look in (
                ("pattern", template.check),
                ("devices", lambda t=template: t.audience),
            ):
                try:
                    look()
                except BadInput as error:
                    suggestion = error.problems[0].suggestion if error.problems else ""
                    pointer = f"/templates/{place}/{part}"
                    yield place, FieldProblem(pointer, error.code, error.detail, suggestion)
            if template.name.casefold() in names[:place]:
                detail = f"Two templates are called {template.name!r}."
                yield place, FieldProblem(f"/templates/{place}/name", "template_taken", detail)


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
    if name not in (*FIELDS, *SPECIAL) and not re.fullmatch(_TAG_FIELD, name):
        known = ", ".join((*FIELDS, f"{TAG}PREFIX", *SPECIAL))
        _fault(pattern, start, f"{name!r} is not a field; known are {known}")
    filters, fallback, place = [], None, start + len(parts[0]) + 1
    for part in parts[1:]:
        word = part.strip()
        if quoted := re.fullmatch(r'or\s+"([^"]*)"', word):
            fallback = quoted[1]
        elif (called := re.fullmatch(r"([a-z]+)(?:\s+(\d{1,2}))?", word)) and called[1] in (
            _PLAIN_FILTERS if called[2] is None else _NUMBERED_FILTERS
        ):
            filters.append((called[1], int(called[2] or 0)))
        else:
            _fault(
                pattern,
                place,
                f"{word!r} is not a filter; known are upper, lower, ascii, letters, digits, first"
                ' N, last N, pad N, or "text"',
            )
        place += len(part) + 1
    return Piece("", name, tuple(filters), fallback, shrinks)


def _cutting(piece: Piece) -> bool:
    """Whether a filter takes digits away."""
    return any(name in ("first", "last", "letters") for name, _ in piece.filters)


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
