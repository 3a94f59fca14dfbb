"""What a person decided about conflicts, in core alone."""

import polars as pl
import pytest
from tests.core.test_corpus import NOBODY
from tests.identifiers import imei
from tests.workbooks import TODAY

from sortitor.core import lots
from sortitor.core.columns import FIELDS
from sortitor.core.manifests import read_table
from sortitor.core.vocabulary import Remedy


def fleet(*devices: dict[str, object]) -> lots.Facts:
    """Devices with their identifiers, matched to row 2 of the file: `id`, `stage`, `keys`, further
    fields.
    """
    matches, rows, owned = [], [], []
    for device in devices:
        number = device["id"]
        fields = {name: device.get(name) for name in FIELDS}
        rows.append(
            {
                "device_id": number,
                "stage": device.get("stage", "active"),
                "flagged": device.get("flagged", False),
                "ownership_basis": "declared",
                "manual": "",
                **fields,
            }
        )
        for kind, value in device["keys"]:
            owned.append({"device_id": number, "kind": kind, "value": value})
            matches.append(
                {
                    "row": 2,
                    "kind": kind,
                    "value": value,
                    "maker": "kelmar" if kind == "serial" else "",
                    "device_id": number,
                    "device_maker": "kelmar" if kind == "serial" else "",
                }
            )
    return lots.Facts(
        pl.DataFrame(matches, schema=NOBODY.matches.schema),
        pl.DataFrame(rows, schema=NOBODY.devices.schema),
        pl.DataFrame(owned, schema=NOBODY.owned.schema),
        NOBODY.people,
        NOBODY.names,
        NOBODY.tags,
    )


def decide(
    facts: lots.Facts,
    choices: dict[int, str] | None = None,
    lines: str = f"KM-1,Kelmar,{imei(1)},Dunlin\n",
) -> lots.Decided:
    manifest = read_table(f"serial,maker,imei,site\n{lines}".encode())
    return lots.decide(
        lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY),
        facts,
        choices=lots.choices_of(choices),
    )


TWO = (
    {"id": 7, "stage": "awaited", "keys": [("serial", "KM-1")]},
    {"id": 9, "stage": "active", "keys": [("imei", imei(1))]},
)


def test_two_devices_conflict_until_they_are_merged_into_the_one_in_use() -> None:
    assert decide(fleet(*TWO)).rows["verdict"].to_list() == ["conflict"]
    merged = decide(fleet(*TWO), {2: Remedy.MERGE})
    assert merged.rows.select("verdict", "device_id").row(0) == ("change", 9)
    assert merged.merges.rows() == [(2, 9, 7)]
    changes = lots.change_pairs(merged.rows["changes"][0])
    assert changes["merged_devices"] == ("device 7", "device 9")
    assert "serial" not in changes, "it comes along with the merged device"
    assert set(merged.notes["code"]) == {"merged"}


@pytest.mark.parametrize(
    ("device", "field", "pair"),
    [
        ({"stage": "retired"}, "stage", ("retired", "awaited")),
        ({"flagged": True}, "flag", ("reported", None)),
    ],
)
def test_a_device_is_taken_back(
    device: dict[str, object], field: str, pair: tuple[str, str | None]
) -> None:
    known = {
        "id": 7,
        "keys": [("serial", "KM-1"), ("imei", imei(1))],
        "maker": "Kelmar",
        "site": "Dunlin",
        **device,
    }
    assert decide(fleet(known)).rows["verdict"].to_list() == ["conflict"]
    back = decide(fleet(known), {2: Remedy.TAKE_BACK})
    assert back.rows["verdict"].to_list() == ["change"]
    assert lots.change_pairs(back.rows["changes"][0]) == {field: pair}
    assert set(back.notes["code"]) == {"taken_back"}


def test_a_row_that_is_skipped_is_out_of_every_contest() -> None:
    lines = f"KM-1,Kelmar,{imei(1)},Dunlin\nKM-1,Kelmar,{imei(1)},Petrel\n"
    assert decide(NOBODY, None, lines).rows["verdict"].to_list() == ["conflict", "conflict"]
    assert decide(NOBODY, {3: Remedy.SKIP}, lines).rows["verdict"].to_list() == ["add", "unchanged"]
    assert decide(NOBODY, {2: Remedy.SKIP, 3: Remedy.SKIP}, lines).rows["verdict"].to_list() == [
        "unchanged",
        "unchanged",
    ]
    assert decide(NOBODY, {2: Remedy.SKIP}, "TBC,Kelmar,,Dunlin\n").rows["verdict"].to_list() == [
        "unchanged"
    ], "a reject may be left out too"


@pytest.mark.parametrize("remedy", [Remedy.MERGE, Remedy.TAKE_BACK])
def test_a_remedy_that_does_not_fit_resolves_nothing(remedy: Remedy) -> None:
    lines = f"KM-1,Kelmar,{imei(1)},Dunlin\nKM-1,Kelmar,{imei(1)},Petrel\n"
    assert decide(NOBODY, {2: remedy, 3: remedy}, lines).rows["verdict"].to_list() == [
        "conflict",
        "conflict",
    ]


def test_a_digest_tells_outcomes_apart() -> None:
    assert decide(fleet(*TWO)).digest == decide(fleet(*TWO)).digest
    assert (
        len(
            {
                decide(fleet(*TWO)).digest,
                decide(fleet(*TWO), {2: Remedy.MERGE}).digest,
                decide(fleet(*TWO), {2: Remedy.SKIP}).digest,
            }
        )
        == 3
    )
