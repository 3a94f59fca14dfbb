"""Directories and registries that answer as none should: words, and never a half of anything."""

from __future__ import annotations

import json
from types import SimpleNamespace
from typing import Any

import httpx
import pytest

from sortitor.core import rosters
from sortitor.operations.sources.ports import SourceFault
from sortitor.sources import ldap, registry
from sortitor.sources.http import Answered

GROUP = "cn=Crew,ou=groups,dc=wrenmoor,dc=example"
DEVICE = {"id": "D-1", "serial": "KM-1", "maker": "Gannet", "platform": "android"}


class _InParts:
    """A connection to a directory that answers each search with the next of these."""

    def __init__(self, *answers: dict[str, list[bytes]] | int) -> None:
        self._answers = list(answers)
        self.asked: list[str] = []

    def search(self, place: str, condition: str, scope: str, attributes: list[str]) -> None:
        self.asked += attributes
        told = self._answers.pop(0)
        code, entries = (told, []) if isinstance(told, int) else (0, [_entry(told)])
        self.result = {"result": code, "description": "as asked"}
        self.response = entries


def _entry(values: dict[str, list[bytes]]) -> dict[str, Any]:
    return {"type": "searchResEntry", "dn": GROUP, "raw_attributes": values}


def _members(line: _InParts) -> list[str]:
    first = _entry({"member": [], "member;range=0-1": [b"a", b"b"]})
    return list(ldap._by_ranges(line, first, "member"))  # type: ignore[arg-type]


def test_members_of_a_large_group_come_in_parts() -> None:
    line = _InParts({"member;range=2-3": [b"c", b"d"]}, {"member;range=4-*": [b"e"]})
    assert _members(line) == ["a", "b", "c", "d", "e"]
    assert line.asked == ["member;range=2-*", "member;range=4-*"]


@pytest.mark.parametrize(
    "next_part",
    [
        *({f"member;range=2-{last}": [b"c"]} for last in ("x", "1", "", "²", "9" * 5_000)),
        pytest.param(3, id="the time is over"),
        pytest.param(50, id="not allowed"),
        pytest.param(32, id="gone meanwhile"),
    ],
)
def test_half_a_group_is_none(next_part: dict[str, list[bytes]] | int) -> None:
    with pytest.raises(SourceFault):
        _members(_InParts(next_part))


ANNA, BERT = f"uid=anna,{GROUP}", f"uid=bert,{GROUP}"


def _owners(line: _InParts) -> dict[str, str]:
    devices = [_entry({"owner": [owner.encode()]}) for owner in (ANNA, BERT, ANNA)]
    names = {"owner": "owner", "user_name": "uid"}
    known = {str(ldap.place_of(ANNA)): "anna"}
    return ldap._owner_names(line, devices, names, known)  # type: ignore[arg-type]


def test_owners_who_were_read_are_not_asked_for_again() -> None:
    line = _InParts({"uid": [b"bert"]})
    assert sorted(_owners(line).values()) == ["anna", "bert"]
    assert line.asked == ["uid"]


def test_an_owner_who_is_gone_is_none() -> None:
    assert list(_owners(_InParts(32)).values()) == ["anna"]


@pytest.mark.parametrize("code", [3, 11, 51, 52])
def test_a_directory_that_is_busy_takes_no_device_from_anybody(code: int) -> None:
    with pytest.raises(SourceFault):
        _owners(_InParts(code))


class _WithoutEnd:
    """A connection to a directory of which each page leads to another one."""

    def __init__(self, page: list[dict[str, Any]]) -> None:
        self.response = page
        more = {"1.2.840.113556.1.4.319": {"value": {"cookie": b"more"}}}
        self.result = {"result": 0, "controls": more}

    def search(self, *asked: Any, **more: Any) -> None:
        """The same again."""


@pytest.mark.parametrize(
    ("page", "code"),
    [
        ([], "endless"),
        ([_entry({})] * 3, "too_many"),
        ([{"type": "searchResRef", "uri": ["ldap://far.wrenmoor.example"]}] * 3, "too_many"),
    ],
)
def test_pages_of_a_directory_come_to_an_end(
    page: list[dict[str, Any]], code: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(ldap, "_MOST_ENTRIES", 30)
    source = SimpleNamespace(branches=("dc=wrenmoor,dc=example",))
    line: Any = _WithoutEnd(page)
    with pytest.raises(SourceFault) as raised:
        list(ldap._search(line, source, None, ["cn"], None, ldap._silent, set()))  # type: ignore[arg-type]
    assert raised.value.code == code


def _answered(text: str, **headers: str) -> Answered:
    return Answered(200, httpx.Headers(headers), text.encode())


def _page(field: str, value: str) -> Answered:
    """A page of one device of which a field is written so."""
    page = {"devices": [{**DEVICE, field: "here"}], "more": False, "next": "c"}
    return _answered(json.dumps(page).replace('"here"', value))


@pytest.mark.parametrize("field", ["id", "serial", "maker", "reseller", "added_at"])
@pytest.mark.parametrize("value", ['{"a": [1]}', "[1]", "true", '"a\\u0000b"', "1" + "0" * 400])
def test_a_field_that_is_no_text_says_nothing(field: str, value: str) -> None:
    told = registry._page_of(_page(field, value))["devices"]
    extra = [{name: registry._said(told[0].get(name)) for name in registry._EXTRA}]
    devices, remarks = rosters.devices_of(registry._frame(told), extra)
    assert len(devices) + sum(remark.count for remark in remarks) >= 1
    assert "\\u0000" not in "".join(devices["extra"])


@pytest.mark.parametrize(
    "text",
    [
        _page("serial", '"\\ud800"').content.decode(),
        _page("serial", "1e999").content.decode(),
        _page("serial", "NaN").content.decode(),
        '{"devices": [1], "more": false, "next": "c"}',
        '{"devices": ' + "[" * 100_000,
        "[]",
        "",
    ],
    ids=range(7),
)
def test_what_is_no_page_is_refused(text: str) -> None:
    with pytest.raises(SourceFault, match="no page of devices"):
        registry._page_of(_answered(text))


@pytest.mark.parametrize(
    ("told", "seconds"),
    [("nan", 5), ("inf", 5), ("-1", 5), ("soon", 5), ("9" * 5_000, 5), ("0.2", 0.2), ("600", 121)],
)
def test_a_registry_that_is_busy_is_waited_for_within_reason(told: str, seconds: float) -> None:
    assert registry._retry_after(_answered("", **{"retry-after": told})) == seconds
