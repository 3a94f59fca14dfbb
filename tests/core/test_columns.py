"""Headers are understood by meaning, corrected by hand, and never taken for what they are not."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sortitor.core.columns import (
    COLUMNS,
    FIELDS,
    IDENTIFIER_COLUMNS,
    plain,
    recall,
    remap,
    template_headers,
    understand,
)
from sortitor.core.errors import BadInput
from sortitor.core.platforms import CATALOGUE, SYNONYMS
from sortitor.core.vocabulary import IdentifierKind, Platform


@pytest.mark.parametrize(
    ("header", "column"),
    [
        ("S/N", "serial"),
        ("Serial No.", "serial"),
        ("SERIAL_NUMBER", "serial"),
        ("Seriennummer", "serial"),
        ("IMEI 1", "imei"),
        ("IMEI2", "imei"),
        ("imei/meid", "imei"),
        ("MEID (hex)", "meid"),
        ("eUICC ID", "eid"),
        ("Wi-Fi MAC", "mac"),
        ("Ethernet MAC", "mac"),
        ("Hardware UUID", "uuid"),
        ("Hardware fingerprint", "fingerprint"),
        ("OS", "platform"),
        ("Hersteller", "maker"),
        ("Manufacturer", "maker"),
        ("Modell", "model"),
        ("Part No", "product_code"),
        ("PO", "purchase_order"),
        ("Order No.", "order_name"),
        ("Kaufdatum", "purchased_on"),
        ("Garantie bis", "warranty_until"),
        ("Garantieende", "warranty_until"),
        ("Garantie", "warranty_until"),
        ("Standort", "site"),
        ("Abteilung", "department"),
        ("E-Mail", "person"),
        ("Assigned to", "person"),
        ("Inventarnummer", "asset_tag"),
        ("Labels", "tags"),
        ("Bemerkung", "note"),
        ("problem", "problem"),
    ],
)
def test_the_usual_headers(header: str, column: str) -> None:
    assert understand([header]) == {header: column}


@pytest.mark.parametrize(
    "header",
    ["Karton", "Colour", "serial port", "order of battle", "", "12", "IMEI status"],
)
def test_what_means_nothing_stays_a_detail(header: str) -> None:
    assert understand([header]) == {}


def test_only_some_columns_may_come_several_times_and_the_first_header_counts() -> None:
    found = understand(["Serial", "S/N", "IMEI 1", "IMEI 2", "MAC", "Wi-Fi MAC"])
    assert found == {
        "Serial": "serial",
        "IMEI 1": "imei",
        "IMEI 2": "imei",
        "MAC": "mac",
        "Wi-Fi MAC": "mac",
    }


def test_a_mapping_that_is_given_goes_first() -> None:
    assert understand(["Box", "Serial"], {"serial": "Box"}) == {"Box": "serial"}
    with pytest.raises(BadInput, match="no header 'Crate'"):
        understand(["Box"], {"serial": "Crate"})
    with pytest.raises(BadInput, match="not a column"):
        understand(["Box"], {"colour": "Box"})


def test_a_correction_replaces_what_the_header_meant() -> None:
    now = {"A": "serial", "B": "site"}
    assert remap(["A", "B", "C"], {"C": "serial"}, now) == {"C": "serial", "B": "site"}
    assert remap(["A", "B", "C"], {"B": None}, now) == {"A": "serial"}
    assert remap(["A", "B", "C"], {"B": "imei", "C": "imei"}, now) == {
        "B": "imei",
        "C": "imei",
        "A": "serial",
    }
    with pytest.raises(BadInput) as caught:
        remap(["A"], {"A": "colour", "Z": "site"}, now)
    assert [p.code for p in caught.value.problems] == ["unknown_header", "unknown_column"]


@given(st.lists(st.text(max_size=20), max_size=12, unique=True))
def test_any_headers_are_read_without_a_fault(headers: list[str]) -> None:
    found = understand(headers)
    assert set(found) <= set(headers)
    assert set(found.values()) <= set(COLUMNS)
    single = [column for column in found.values() if column not in ("imei", "mac")]
    assert len(single) == len(set(single))


@given(st.text(max_size=30))
def test_reducing_a_header_twice_changes_nothing_more(header: str) -> None:
    assert plain(plain(header)).rstrip("0123456789 ") == plain(header).rstrip("0123456789 ")


def test_columns_identifiers_and_platforms_fit_together() -> None:
    assert set(IDENTIFIER_COLUMNS) == {kind.value for kind in IdentifierKind}
    assert set(FIELDS) < set(COLUMNS)
    assert set(CATALOGUE) == set(Platform)
    assert all(facts.identifiers for facts in CATALOGUE.values())
    assert SYNONYMS["ipados"] == "ios"
    assert "imei" not in template_headers(Platform.LINUX)
    assert template_headers(Platform.ANDROID)[:2] == ["serial", "imei"]


def test_what_an_earlier_file_taught_goes_first() -> None:
    headers = ["Nummer", "Serial", "Site"]
    assert recall(headers, {}) == understand(headers)
    assert recall(headers, {"Nummer": "serial", "Site": "", "Gone": "imei"}) == {"Nummer": "serial"}
