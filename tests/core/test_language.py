"""The filter language by the book: every operator on every kind of value, and what a missing value
does to it.
"""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

import pytest

from sortitor.core.errors import BadInput
from sortitor.core.filters import (
    ATTRIBUTES,
    OPERATORS,
    Kind,
    all_of,
    attributes,
    matches,
    one_of,
    parse,
)

AT = datetime(2026, 1, 19, 9, 0, tzinfo=UTC)
#: Attribute, its value on the device, and for each comparison whether it holds.
BOOK: list[tuple[str, Any, dict[str, bool]]] = [
    (
        "site",
        "Quillharbour",
        {
            'eq "quillharbour"': True,
            'eq "QUILLHARBOUR"': True,
            'eq "Quill"': False,
            'ne "Quill"': True,
            'ne "quillharbour"': False,
            'co "LLH"': True,
            'co ""': True,
            'co "x"': False,
            'sw "quill"': True,
            'sw "harbour"': False,
            'ew "HARBOUR"': True,
            'ew "quill"': False,
            "pr": True,
            "eq null": False,
            "ne null": True,
        },
    ),
    # A missing text is nothing: only what asks for nothing, or denies something, holds.
    *(
        (
            (
                "site",
                missing,
                {
                    'eq "x"': False,
                    'ne "x"': True,
                    'co "x"': False,
                    'co ""': False,
                    'sw ""': False,
                    'ew ""': False,
                    "pr": False,
                    "eq null": True,
                    "ne null": False,
                    'eq ""': False,
                    'ne ""': True,
                },
            )
        )
        for missing in (None, "")
    ),
    (
        "site",
        "مرفأ الشمال",
        {'eq "مرفأ الشمال"': True, 'sw "مرفأ"': True, 'co "شمال"': True, 'ew "مرفأ"': False},
    ),
    ("site", "ÖRESUND", {'eq "öresund"': True, 'sw "ö"': True, 'eq "oresund"': False}),
    ("site", "İzmir", {'eq "izmir"': True, 'sw "i"': True}),
    ("site", "STRASSE", {'eq "straße"': False, 'eq "strasse"': True}),
    (
        "site",
        '50 % "off"_\\',
        {
            'co "%"': True,
            'co "_"': True,
            'co "\\\\"': True,
            'co "\\"off\\""': True,
            'sw "50 %"': True,
            'eq "50 x \\"off\\"_\\\\"': False,
        },
    ),
    (
        "platform",
        "android",
        {'eq "ANDROID"': True, 'eq "ios"': False, 'ne "ios"': True, "pr": True, "eq null": False},
    ),
    (
        "platform",
        None,
        {
            'eq "android"': False,
            'ne "android"': True,
            "pr": False,
            "eq null": True,
            "ne null": False,
        },
    ),
    # Versions by their components: 10 equals 10.0, and 9 is less than 10.
    (
        "osVersion",
        "10.0",
        {
            'eq "10"': True,
            'eq "10.0"': True,
            'eq "10.0.0.0"': True,
            'eq "10.0.1"': False,
            'ne "10"': False,
            'lt "10.0.1"': True,
            'gt "9.9.9"': True,
            'gt "10"': False,
            'ge "10"': True,
            'le "10"': True,
            'lt "10"': False,
            'gt "9"': True,
            'lt "100"': True,
            "pr": True,
            "eq null": False,
        },
    ),
    ("osVersion", "010.01", {'eq "10.1"': True}),
    (
        "osVersion",
        "ten",
        {'eq "10"': False, 'ne "10"': True, 'lt "99"': False, 'gt "0"': False, "pr": True},
    ),
    (
        "osVersion",
        None,
        {'eq "10"': False, 'ne "10"': True, 'ge "0"': False, "pr": False, "eq null": True},
    ),
    (
        "idleDays",
        90,
        {
            "eq 90": True,
            "ne 90": False,
            "gt 89": True,
            "gt 89.5": True,
            "gt 90": False,
            "ge 90": True,
            "lt 91": True,
            "lt 90": False,
            "le 90": True,
            "eq 90.5": False,
            "ge -1": True,
            "pr": True,
        },
    ),
    ("daysToWarrantyEnd", -3, {"lt 0": True, "ge -3": True, "eq -3": True, "gt -2": False}),
    (
        "daysToWarrantyEnd",
        None,
        {"lt 0": False, "ge 0": False, "eq 0": False, "ne 0": True, "pr": False, "eq null": True},
    ),
    (
        "purchasedOn",
        date(2026, 1, 19),
        {
            'eq "2026-01-19"': True,
            'gt "2026-01-18"': True,
            'lt "2026-01-19"': False,
            'le "2026-01-19"': True,
            'ge "2026-01-20"': False,
            'ne "2026-01-20"': True,
            "pr": True,
        },
    ),
    (
        "purchasedOn",
        None,
        {
            'eq "2026-01-19"': False,
            'lt "2026-01-19"': False,
            'ne "2026-01-19"': True,
            "pr": False,
            "eq null": True,
        },
    ),
    (
        "lastSeenAt",
        AT,
        {
            'eq "2026-01-19T09:00:00Z"': True,
            'eq "2026-01-19T10:00:00+01:00"': True,
            'gt "2026-01-19T08:59:59Z"': True,
            'lt "2026-01-19T09:00:00Z"': False,
            'ge "2026-01-19T09:00:00Z"': True,
            'le "2026-01-19T09:00:00.000001Z"': True,
            'ne "2026-01-19T09:00:00Z"': False,
            "pr": True,
        },
    ),
    ("held", True, {"eq true": True, "eq false": False, "ne true": False, "ne false": True}),
    ("held", False, {"eq true": False, "eq false": True, "ne true": True}),
    # Of several values, one that fits is enough; none may be equal for `ne`.
    (
        "tags",
        ["spare", "Deck 2"],
        {
            'eq "SPARE"': True,
            'eq "deck 2"': True,
            'eq "deck"': False,
            'ne "spare"': False,
            'ne "x"': True,
            'co "eck"': True,
            'sw "deck"': True,
            'ew "2"': True,
            "pr": True,
            'eq ""': False,
        },
    ),
    ("tags", [], {'eq "spare"': False, 'ne "spare"': True, 'co ""': False, "pr": False}),
    ("tags", None, {'eq "spare"': False, 'ne "spare"': True, "pr": False}),
    (
        "imei",
        ["490154203237518"],
        {
            'eq "490154203237518"': True,
            'sw "4901"': True,
            'ew "7518"': True,
            'eq "490154203237519"': False,
        },
    ),
    ("mac", ["0a1b2c3d4e5f"], {'eq "0A1B2C3D4E5F"': True}),
    ("person.groups", ["Crew"], {'eq "crew"': True, 'ne "officers"': True}),
    ("person.left", False, {"eq false": True, "eq true": False}),
    ("id", 412, {"eq 412": True, "gt 411": True, "eq 412.0": True}),
]


@pytest.mark.parametrize(
    ("attribute", "value", "said"),
    BOOK,
    ids=[f"{attribute} {value!r}"[:40] for attribute, value, _ in BOOK],
)
def test_the_book(attribute: str, value: Any, said: dict[str, bool]) -> None:
    for rest, held in said.items():
        text = f"{attribute} {rest}"
        found = parse(text)
        assert matches(found, {attribute: value})[0] is held, text
        assert matches(parse(f"not ({text})"), {attribute: value})[0] is not held, text
        if value is None:
            assert matches(found, {})[0] is held, "absent is missing"


def test_the_book_has_every_kind_and_every_operator_of_it() -> None:
    used = {
        (ATTRIBUTES[attribute].kind, rest.split()[0])
        for attribute, _, said in BOOK
        for rest in said
    }
    wanted = {(kind, operator) for kind in Kind for operator in OPERATORS[kind]}
    assert wanted - used == set()


@pytest.mark.parametrize(
    ("kind", "refused"),
    [
        (Kind.TEXT, ["gt", "ge", "lt", "le"]),
        (Kind.TOKEN, ["co", "sw", "gt"]),
        (Kind.VERSION, ["co", "sw", "ew"]),
        (Kind.NUMBER, ["co", "sw", "ew"]),
        (Kind.DAY, ["co", "sw"]),
        (Kind.TIME, ["co", "ew"]),
        (Kind.TRUTH, ["co", "gt", "le"]),
        (Kind.TEXTS, ["gt", "lt"]),
    ],
)
def test_an_operator_that_makes_no_sense_is_refused_and_the_others_named(
    kind: Kind, refused: list[str]
) -> None:
    name = next(name for name, attribute in ATTRIBUTES.items() if attribute.kind is kind)
    for operator in refused:
        with pytest.raises(BadInput, match=f"cannot be compared by {operator}") as caught:
            parse(f'{name} {operator} "x"')
        assert "eq" in caught.value.detail


@pytest.mark.parametrize(
    "text",
    [
        'site eq "a" and site eq "b" or site eq "c"',
        'not (site eq "a") and (idleDays ge 3 or tags pr)',
        "id pr",
    ],
)
def test_blanks_and_lines_change_nothing(text: str) -> None:
    spread = text.replace("(", " ( ").replace(")", " ) ").replace(" ", "\n\t ")
    assert parse(spread) == parse(text)


def test_what_a_filter_speaks_of() -> None:
    found = all_of(
        parse('site eq "a" or not (person.groups eq "x" and idleDays ge 3)'),
        one_of("stage", ["active", "parked"]),
    )
    assert found is not None
    assert attributes(found) == {"site", "person.groups", "idleDays", "stage"}
