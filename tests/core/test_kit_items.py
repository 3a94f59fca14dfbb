"""Items: what each kind brings, and what is refused where it is put in."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from pydantic import ValidationError

from sortitor.core.errors import BadInput
from sortitor.core.kits.catalogue import settings
from sortitor.core.kits.items import Item
from sortitor.core.kits.resolve import Assignment, Book, effective, facts_of
from sortitor.core.vocabulary import GivenAs, Giving, ItemKind, ItemVerdict, Platform

TODAY = date(2026, 4, 6)
DIGEST = "0f" * 32


def certificate(ends: date, name: str = "Wrenmoor Harbour CA") -> tuple[str, str]:
    """A certificate and its key as PEM."""
    key = ec.generate_private_key(ec.SECP256R1())
    whose = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    made = (
        x509.CertificateBuilder()
        .subject_name(whose)
        .issuer_name(whose)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(datetime(2020, 1, 1, tzinfo=UTC))
        .not_valid_after(datetime(ends.year, ends.month, ends.day, 12, tzinfo=UTC))
        .sign(key, hashes.SHA256())
    )
    secret = key.private_bytes(
        serialization.Encoding.PEM,
        serialization.PrivateFormat.PKCS8,
        serialization.NoEncryption(),
    )
    return made.public_bytes(serialization.Encoding.PEM).decode(), secret.decode()


PEM, PRIVATE = certificate(TODAY)
GOOD: dict[ItemKind, dict[str, Any]] = {
    ItemKind.SETTING: {"setting": "lock-after", "value": 5},
    ItemKind.CUSTOM: {"key": "no.wrenmoor.ticker", "type": "number", "value": "-12"},
    ItemKind.APP: {"identifier": "no.wrenmoor.tickets", "digest": DIGEST, "size": 1},
    ItemKind.DOCUMENT: {"file_name": "Safety.pdf", "digest": DIGEST, "size": 2 * 1024**3},
    ItemKind.NETWORK: {"ssid": "Deck", "security": "secret", "secret": "gull;and:tern"},
    ItemKind.ACCOUNT: {"service": "mail", "server": "mail.wrenmoor.example", "port": 993},
    ItemKind.CERTIFICATE: {"pem": PEM},
    ItemKind.SCRIPT: {"platform": "linux", "text": "#!/bin/sh\ntrue\n"},
    ItemKind.FIRMWARE: {"wanted": "17.4.1"},
}


def item(kind: ItemKind, changed: dict[str, Any] | None = None, **beside: Any) -> Item:
    payload = {"kind": kind, **GOOD[kind], **(changed or {})}
    made = Item.model_validate({"name": "Item", "payload": payload, **beside})
    made.check()
    made.check_by(settings(), TODAY)
    return made


@pytest.mark.parametrize("kind", ItemKind)
def test_what_is_right_is_taken_and_kept_as_it_is(kind: ItemKind) -> None:
    made = item(kind)
    assert Item.model_validate(made.as_json()) == made
    assert made.resolved(4, settings()).id == 4


@pytest.mark.parametrize(
    ("kind", "changed", "place"),
    [
        (ItemKind.SETTING, {"setting": "no-such"}, "/payload/setting"),
        (ItemKind.SETTING, {"value": 600}, "/value"),
        (ItemKind.CUSTOM, {"type": "truth", "value": "yes"}, "/payload/value"),
        (ItemKind.CUSTOM, {"value": "1.5"}, "/payload/value"),
        (ItemKind.NETWORK, {"secret": None}, "/payload/secret"),
        (ItemKind.NETWORK, {"secret": "short"}, "/payload/secret"),
        (ItemKind.NETWORK, {"security": "open"}, "/payload/secret"),
        (ItemKind.NETWORK, {"ssid": "ميناء الشمال الكبير"}, "/payload/ssid"),
        (ItemKind.CERTIFICATE, {"pem": "-----BEGIN CERTIFICATE-----\nAA"}, "/payload/pem"),
        (ItemKind.CERTIFICATE, {"pem": PEM + PRIVATE}, "/payload/pem"),
        (ItemKind.CERTIFICATE, {"pem": PEM + PEM}, "/payload/pem"),
        (ItemKind.SCRIPT, {"platform": "ios"}, "/payload/platform"),
        (ItemKind.SCRIPT, {"text": " \n"}, "/payload/text"),
        (ItemKind.SCRIPT, {"platform": "windows"}, "/payload/text"),
    ],
)
def test_what_is_wrong_is_refused_with_its_place(
    kind: ItemKind, changed: dict[str, Any], place: str
) -> None:
    with pytest.raises(BadInput) as refused:
        item(kind, changed)
    assert [problem.pointer for problem in refused.value.problems] == [place]
    assert refused.value.remedy


@pytest.mark.parametrize(
    ("kind", "changed"),
    [
        (ItemKind.APP, {"digest": "0F" * 32}),
        (ItemKind.APP, {"size": 0}),
        (ItemKind.APP, {"identifier": "two words"}),
        (ItemKind.DOCUMENT, {"size": 2 * 1024**3 + 1}),
        (ItemKind.DOCUMENT, {"address": "http://wrenmoor.example/a.pdf"}),
        (ItemKind.DOCUMENT, {"address": "file:///etc/passwd"}),
        (ItemKind.ACCOUNT, {"port": 0}),
        (ItemKind.ACCOUNT, {"server": "a b"}),
        (ItemKind.FIRMWARE, {"wanted": "latest"}),
        (ItemKind.FIRMWARE, {"more": "fields"}),
        (ItemKind.CUSTOM, {"key": ""}),
    ],
)
def test_what_has_no_form_is_no_payload(kind: ItemKind, changed: dict[str, Any]) -> None:
    with pytest.raises(ValidationError):
        item(kind, changed)


def test_a_certificate_is_read_for_its_names_and_its_end() -> None:
    read = item(ItemKind.CERTIFICATE).payload.read()  # type: ignore[union-attr]
    assert (read.name, read.issuer, read.ends_on) == ("Wrenmoor Harbour CA",) * 2 + (TODAY,)
    old, _ = certificate(TODAY - timedelta(1))
    with pytest.raises(BadInput, match="ended on 2026-04-05"):
        item(ItemKind.CERTIFICATE, {"pem": old})


def test_who_must_be_at_the_device() -> None:
    assert not item(ItemKind.NETWORK).needs_hand
    joined = {"secret": None, "security": "certificate"}
    assert item(ItemKind.NETWORK, joined).needs_hand, "somebody decides to trust the server"
    assert not item(ItemKind.NETWORK, {**joined, "trusted": True}).needs_hand
    assert item(ItemKind.NETWORK, {"secret": None, "security": "password"}).needs_hand
    assert item(ItemKind.ACCOUNT).needs_hand
    assert item(ItemKind.APP, by_hand=True).needs_hand


def test_an_item_is_for_the_platforms_that_know_it() -> None:
    assert item(ItemKind.SETTING).fitting(settings()) == {
        Platform.IOS: "15",
        Platform.ANDROID: "10",
        Platform.WINDOWS: "10",
        Platform.MACOS: "12",
        Platform.LINUX: "",
    }
    chosen = item(ItemKind.SETTING, platforms={"ios": "16.1", "android": "9"})
    assert chosen.fitting(settings()) == {
        Platform.IOS: "16.1",
        Platform.ANDROID: "10",
    }
    assert item(ItemKind.SCRIPT).fitting(settings()) == {Platform.LINUX: ""}
    with pytest.raises(BadInput, match="not known to Linux"):
        item(ItemKind.SETTING, {"setting": "camera", "value": "allowed"}, platforms={"linux": ""})
    with pytest.raises(BadInput, match="no version of iOS"):
        item(ItemKind.APP, platforms={"ios": "new"})
    with pytest.raises(BadInput, match="no other platform"):
        item(ItemKind.SCRIPT, platforms={"macos": ""})
    with pytest.raises(BadInput):
        item(ItemKind.APP, applies_when="site is Deck")
    with pytest.raises(BadInput, match="how long ago"):
        item(ItemKind.APP, applies_when="idleDays gt 3")
    with pytest.raises(BadInput, match="speaks of a cohort"):
        item(ItemKind.APP, applies_when='cohorts eq "Deck"')


def test_of_two_values_for_one_setting_a_device_gets_one() -> None:
    five, ten = (
        item(ItemKind.SETTING, {"value": minutes}).resolved(number, settings())
        for number, minutes in ((1, 5), (2, 10))
    )
    given = [
        Assignment(n, GivenAs.REQUIRED, Giving.ITEM, number=n, cohort_id=c)
        for n, c in ((1, None), (2, 3))
    ]
    book = Book({1: five, 2: ten}, {}, given)
    values = {"platform": "android", "osVersion": "an old one"}
    lines = effective(book, facts_of(book, {3}, values))
    assert [line.verdict for line in lines] == [ItemVerdict.REQUIRED, ItemVerdict.BEATEN]
    assert lines[1].disagrees
    assert lines[1].beaten_by == 1
