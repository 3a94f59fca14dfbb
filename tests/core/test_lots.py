"""Verdicts: what would become of each row."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.identifiers import imei
from tests.workbooks import TODAY

from sortitor.core import lots
from sortitor.core.errors import BadInput
from sortitor.core.manifests import read_paste, read_table

NOBODY = lots.nothing_known()


def check(
    content: str, facts: lots.Facts = NOBODY, defaults: dict[str, str] | None = None
) -> lots.Decided:
    manifest = read_table(content.encode())
    return lots.decide(
        lots.prepare(manifest, lots.meaning_of(manifest)[0], defaults or {}, TODAY), facts
    )


def verdicts(decided: lots.Decided) -> list[str]:
    return decided.rows["verdict"].to_list()


def codes(decided: lots.Decided, row: int) -> set[str]:
    return set(decided.notes.filter(pl.col("row") == row)["code"])


def test_a_row_with_a_valid_identifier_is_added_with_defaults_for_its_blank_cells() -> None:
    decided = check(
        "serial,site,Karton\nKM-1,,7\nKM-2,Dunlin,8\n",
        defaults={"site": "Petrel", "ownership": "corporate"},
    )
    assert verdicts(decided) == ["add", "add"]
    assert decided.rows["site"].to_list() == ["Petrel", "Dunlin"]
    assert decided.rows["details"].to_list() == ['{"Karton":"7"}', '{"Karton":"8"}']
    assert decided.rows["ownership_basis"].to_list() == ["declared", "declared"]


def test_notes_and_identifiers_keep_what_was_given() -> None:
    decided = check(f"serial,imei,site\n'KM-1,{imei(1)}.0,  Dunlin \nKM-2,3.5E+14,=x\n")
    given = dict(decided.notes.select("code", "given").iter_rows())
    assert given == {
        "leading_apostrophe": "'KM-1",
        "decimal_ending": f"{imei(1)}.0",
        "scientific_notation": "3.5E+14",
        "formula": "=x",
    }
    assert set(decided.keys["given"]) >= {"'KM-1", f"{imei(1)}.0"}


def test_rows_that_share_an_identifier() -> None:
    decided = check(
        "serial,site\nAAA1,Dunlin\nAAA1,Dunlin\nBBB1,Dunlin\nBBB1,Petrel\nCCC1,Petrel\n"
    )
    assert verdicts(decided) == ["add", "unchanged", "conflict", "conflict", "add"]
    assert "duplicate_row" in codes(decided, 3)
    assert "rows_disagree" in codes(decided, 4) & codes(decided, 5)


def test_nothing_valid_in_the_row() -> None:
    decided = check(f"serial,imei\nTBC,3.5E+14\n,\n,{imei(1)}\n")
    assert verdicts(decided) == ["reject", "add"], "an empty line is no row"
    assert codes(decided, 2) == {"placeholder", "scientific_notation"}


@pytest.mark.parametrize(
    ("column", "value", "code"),
    [
        ("platform", "beos", "platform_unknown"),
        ("ownership", "mine", "ownership_unknown"),
        ("purchased on", "31.31.2025", "date_unreadable"),
        ("site", "=1+1", "formula"),
        ("note", "x" * 501, "text_too_long"),
    ],
)
def test_a_value_that_cannot_be_understood_rejects_its_row(
    column: str, value: str, code: str
) -> None:
    decided = check(f"serial,{column}\nKM-1,{value}\n")
    assert verdicts(decided) == ["reject"]
    assert code in codes(decided, 2)


def test_an_identifier_that_the_platform_has_no_use_for() -> None:
    decided = check(f"serial,imei,platform\nKM-1,{imei(1)},windows\n,{imei(2)},linux\n")
    assert "identifier_not_used" in codes(decided, 3) or verdicts(decided)[1] == "reject"
    assert verdicts(decided)[1] == "reject"


def known(names: dict[str, int] | None = None, **device: object) -> lots.Facts:
    """A fleet of one device: number 7, serial KM-1 of maker kelmar; `names` says which device has
    which name.
    """
    values = {
        "device_id": 7,
        "stage": "active",
        "flagged": False,
        "ownership_basis": "declared",
        "manual": "",
        "maker": "Kelmar",
        "site": "Dunlin",
        "ownership": "corporate",
    }
    return lots.Facts(
        matches=pl.DataFrame(
            [
                {
                    "row": 2,
                    "kind": "serial",
                    "value": "KM-1",
                    "maker": "kelmar",
                    "device_id": 7,
                    "device_maker": "kelmar",
                }
            ],
            schema=NOBODY.matches.schema,
        ),
        devices=pl.DataFrame([{**values, **device}], schema=NOBODY.devices.schema),
        owned=pl.DataFrame(
            [{"device_id": 7, "kind": "serial", "value": "KM-1"}], schema=NOBODY.owned.schema
        ),
        people=NOBODY.people,
        names=pl.DataFrame(list((names or {}).items()), schema=NOBODY.names.schema, orient="row"),
        tags=NOBODY.tags,
    )


def test_a_known_device_changes_or_not_and_a_blank_cell_erases_nothing() -> None:
    assert verdicts(check("serial,maker,site\nKM-1,Kelmar,Dunlin\n", known())) == ["unchanged"]
    assert verdicts(check("serial,maker,site\nKM-1,Kelmar,\n", known())) == ["unchanged"]
    decided = check("serial,maker,site\nKM-1,Kelmar,Petrel\n", known())
    assert verdicts(decided) == ["change"]
    assert lots.change_pairs(decided.rows["changes"][0]) == {"site": ("Dunlin", "Petrel")}


def test_a_value_set_by_hand_stays_unless_the_lot_says_so() -> None:
    content = "serial,maker,site\nKM-1,Kelmar,Petrel\n"
    decided = check(content, known(manual="site"))
    assert (verdicts(decided), codes(decided, 2)) == (["unchanged"], {"manual_kept"})
    manifest = read_table(content.encode())
    prepared = lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY)
    assert verdicts(lots.decide(prepared, known(manual="site"), overwrite_manual=True)) == [
        "change"
    ]


@pytest.mark.parametrize(
    ("lines", "noted"),
    [
        (",\nKM-2,android,DECK-1\nKM-3,android,DECK-2\n", {}),
        (
            ",\nKM-2,windows,A-NAME-OF-16-CHA\nKM-3,android,A-NAME-OF-16-CHA2\n",
            {3: "name_too_long"},
        ),
        (
            ",\nKM-2,linux,DECK 1\nKM-3,linux,-DECK\nKM-4,linux,Ärmel\n",
            {3: "name_characters", 4: "name_characters", 5: "name_characters"},
        ),
        (
            ",\nKM-2,linux,Deck-1\nKM-3,linux,DECK-1\nKM-4,linux,deck-4\n",
            {3: "name_twice", 4: "name_twice"},
        ),
        (",\nKM-2,linux,Deck-1\nKM-2,linux,Deck-1\n", {4: "duplicate_row"}),
        (",\nKM-2,linux,Gull-9\nKM-3,linux,gull-10\n", {3: "name_taken"}),
        ("linux,gull-9\n", {2: "name_taken"}),
        ("linux,gull-7\n", {}),
        (",\nTBC,linux,Deck-1\nKM-3,linux,Deck-1\n", {3: "placeholder"}),
        # The row gives no platform, but the device has one.
        (",A-NAME-OF-16-CHA\n", {2: "name_too_long"}),
    ],
)
def test_a_name_is_taken_from_the_file_unless_its_device_cannot_have_it(
    lines: str, noted: dict[int, str]
) -> None:
    decided = check(
        f"serial,platform,device name\nKM-1,{lines}",
        known(names={"gull-9": 9, "gull-7": 7}, name="GULL-7", platform="windows"),
    )
    assert dict(decided.notes.select("row", "code").iter_rows()) == noted
    given = {row for row, line in enumerate(lines.splitlines(), 2) if not line.endswith(",")}
    named = set(decided.rows.filter(pl.col("name").is_not_null())["row"])
    assert named == given - {row for row, code in noted.items() if code.startswith("name_")}
    assert decided.rows.filter(
        pl.col("name").is_not_null() != pl.col("name_basis").is_not_null()
    ).is_empty()


def test_a_name_given_by_hand_stays_and_one_from_a_template_gives_way() -> None:
    content = "serial,maker,name\nKM-1,Kelmar,WM-0042\n"
    decided = check(content, known(name="DEVICE-00001", name_basis="inferred"))
    assert lots.change_pairs(decided.rows["changes"][0]) == {"name": ("DEVICE-00001", "WM-0042")}
    assert codes(check(content, known(name="BRIDGE", name_basis="manual")), 2) == {"manual_kept"}
    assert verdicts(check("serial,name\nKM-1,\n", known(name="BRIDGE"))) == ["unchanged"]


def test_a_lot_has_no_name_for_all_its_devices() -> None:
    with pytest.raises(BadInput) as refused:
        lots.check_defaults({"name": "DECK-1"}, TODAY)
    assert refused.value.code == "unknown_default"


@pytest.mark.parametrize(
    ("device", "code"),
    [({"stage": "retired"}, "retired_device"), ({"flagged": True}, "flagged_device")],
)
def test_a_device_that_a_lot_may_not_touch(device: dict[str, object], code: str) -> None:
    decided = check("serial,maker\nKM-1,Kelmar\n", known(**device))
    assert (verdicts(decided), codes(decided, 2)) == (["conflict"], {code})


cells = st.sampled_from(
    ["KM-1", "KM-2", "KM-3", "km-1", "TBC", "", "3.5E+14", imei(1), imei(2), "'KM-4", "x" * 70]
)
rows = st.lists(
    st.tuples(cells, cells, st.sampled_from(["Dunlin", "Petrel", "", "=x"])),
    min_size=1,
    max_size=12,
)


@given(rows, st.randoms(), st.permutations([0, 1, 2]))
def test_a_check_is_stable_under_the_order_of_rows_and_columns(
    table: list[tuple[str, str, str]], random, columns: list[int]
) -> None:
    """Only which of identical rows counts as the first depends on their order."""
    headers = ("serial", "imei", "site")

    def outcome(order: list[int], placed: list[int]) -> dict[int, str]:
        lines = [",".join(headers[c] for c in placed)] + [
            ",".join(f'"{table[i][c]}"' for c in placed) for i in order
        ]
        try:
            decided = check("\n".join(lines) + "\n")
        except BadInput:
            return {}
        found = dict(zip(decided.rows["row"], verdicts(decided), strict=True))
        return {i: found.get(place + 2, "") for place, i in enumerate(order)}

    order = list(range(len(table)))
    plain = outcome(order, [0, 1, 2])
    random.shuffle(order)
    moved = outcome(order, list(columns))
    assert {i: v for i, v in plain.items() if v in ("conflict", "reject")} == {
        i: v for i, v in moved.items() if v in ("conflict", "reject")
    }
    assert sorted(plain.values()) == sorted(moved.values())


@pytest.mark.parametrize("serial", ["TBC", "", "x" * 70])
def test_a_broken_row_behind_an_empty_line_heads_no_other_table(serial: str) -> None:
    """Neither does one whose number is missing or too long."""
    lines = f",,\n{serial},km-1,Petrel\n{imei(1)},km-1,Dunlin\n"
    decided = check(f"serial,imei,site\n,'KM-4,Dunlin\n{lines}")
    assert verdicts(decided) == ["reject"] * 3


def test_pasted_identifiers_are_told_apart() -> None:
    manifest = read_paste(f"KM-1, {imei(1)};KM-2\n{imei(2)}".encode())
    decided = lots.decide(lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY), NOBODY)
    assert verdicts(decided) == ["add"] * 4
    assert decided.keys.sort("row")["kind"].to_list() == ["serial", "imei", "serial", "imei"]


def test_bad_defaults_are_named() -> None:
    with pytest.raises(BadInput, match="platform"):
        lots.check_defaults({"platform": "beos"}, TODAY)
    with pytest.raises(BadInput, match="serial"):
        lots.check_defaults({"serial": "KM-1"}, TODAY)
    assert lots.check_defaults({"purchased_on": "31.03.2026", "platform": "Windows 11"}, TODAY) == {
        "purchased_on": "2026-03-31",
        "platform": "windows",
    }


def test_a_file_without_identifiers_keeps_its_rows_for_a_better_mapping() -> None:
    assert verdicts(check("Colour,Weight\nred,3\n")) == ["reject"]
