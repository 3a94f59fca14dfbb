"""The corpus: files as coordinators meet them, each with what must become of its rows."""

from __future__ import annotations

import tracemalloc
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date

import pytest
from tests.identifiers import imei
from tests.workbooks import TODAY, archive, bomb, ods, xlsx

from sortitor.core import lots
from sortitor.core.columns import template_headers, understand
from sortitor.core.errors import SortitorError
from sortitor.core.manifests import Reading, read_table
from sortitor.core.platforms import CATALOGUE

NOBODY = lots.nothing_known()

A, U, C, R = "add", "unchanged", "conflict", "reject"


@dataclass(frozen=True)
class Case:
    """A file, its verdicts row by row, the notes that must be there, and how it must have been
    read.
    """

    content: bytes | Callable[[], bytes]
    verdicts: list[str]
    notes: set[str] = field(default_factory=set)
    layout: str = "comma"
    read: dict[str, object] = field(default_factory=dict)


def t(*lines: str, encoding: str = "utf-8", end: str = "\n") -> bytes:
    return (end.join(lines) + end).encode(encoding)


I1, I2, I3 = imei(1), imei(2), imei(3)

CASES: dict[str, Case] = {
    # ordinary files
    "plain csv": Case(t("serial,imei", f"KM-1,{I1}", f"KM-2,{I2}"), [A, A]),
    "semicolons": Case(
        t("Seriennummer;Standort", "KM-1;Nordhafen", "KM-2;Kai 4, Süd"), [A, A], layout="semicolon"
    ),
    "tabs": Case(t("S/N\tIMEI 1\tIMEI 2", f"KM-1\t{I1}\t{I2}"), [A], layout="tab"),
    "pipes": Case(t("Serial No.|PO", "KM-1|4711"), [A], layout="pipe"),
    "byte order mark": Case(b"\xef\xbb\xbf" + t("serial", "KM-1"), [A], read={"encoding": "UTF-8"}),
    "windows line ends": Case(t("serial,site", "KM-1,Dunlin", end="\r\n"), [A]),
    "old machine's line ends": Case(
        t("serial,site", "KM-1,Dunlin", "KM-2,Dunlin", end="\r"), [A, A]
    ),
    "windows-1252": Case(
        t("Seriennummer;Hafen", "KM-1;Überseehafen – Süd", encoding="cp1252"),
        [A],
        layout="semicolon",
        read={"encoding": "Windows-1252"},
    ),
    "utf-16 little": Case(
        b"\xff\xfe" + t("serial,site", "KM-1,Dunlin", encoding="utf-16-le"),
        [A],
        read={"encoding": "UTF-16"},
    ),
    "utf-16 big": Case(b"\xfe\xff" + t("serial,site", "KM-1,Dunlin", encoding="utf-16-be"), [A]),
    "json lines": Case(
        t(
            '{"serial": "KM-1", "imei": [' + I1 + ", " + I2 + "]}",
            '{"serial": "KM-2", "site": "Dunlin"}',
        ),
        [A, A],
        layout="json",
    ),
    "no header, one identifier a line": Case(
        t("KM-12345", I1, "KM-12346"), [A, A, A], layout="paste"
    ),
    "title above the headers": Case(
        t("Delivery note 4711", "", "Date;3 March", "Serial No.;Model", "KM-1;Mate 3"),
        [A],
        layout="semicolon",
        read={"header_row": 4},
    ),
    "quoted cells with separators and line ends": Case(
        t("serial,note", '"KM-1","a, b\nc ""d"""', "KM-2,x"), [A, A]
    ),
    "inches in a bare cell": Case(t("serial,model", 'KM-1,Deck 8"', 'KM-2,Deck 11"'), [A, A]),
    "inches in a bare cell, once": Case(t("serial,model", 'KM-1,Deck 8" wide'), [A]),
    "short rows": Case(t("serial,site,note", "KM-1", "KM-2,Dunlin"), [A, A]),
    "empty lines between": Case(t("serial,site", "KM-1,x", "", ",", "KM-2,y"), [A, A]),
    "headers twice": Case(t("IMEI,IMEI,serial", f"{I1},{I2},KM-1"), [A]),
    "header without a name": Case(t("serial,,site", "KM-1,x,Dunlin"), [A]),
    "other scripts": Case(t("serial,site,note", "KM-1,ميناء الشمال,漁港"), [A]),
    "several makers, one serial": Case(t("serial,maker", "A-100,Kelmar", "A-100,Ondry"), [A, A]),
    # every kind of identifier
    "every kind": Case(
        t(
            "meid,eid,mac,uuid,fingerprint",
            "A0000002DBE3D1,89049032123451234512345678901235,00:1B:44:11:3A:B7,f81d4fae-7dec-11d0-a765-00a0c91e6bf6,QUJDREVGR0hJSktMTU5PUA==",
        ),
        [A],
    ),
    "decimal meid": Case(t("meid", "268435456010201020"), [A], {"meid_converted"}),
    "randomised network address": Case(t("mac", "02:1B:44:11:3A:B7"), [R], {"mac_randomised"}),
    "all-zero uuid": Case(
        t("uuid,serial", "00000000-0000-0000-0000-000000000000,KM-1"), [A], {"no_number"}
    ),
    "wrong eid": Case(t("eid", "89049032123451234512345678901234"), [R], {"eid_check_failed"}),
    "imei on a platform without": Case(
        t("serial,imei,platform", f"BW-1,{I1},linux", f",{I2},linux"),
        [A, R],
        {"identifier_not_used"},
    ),
    # what spreadsheets do
    "power of ten": Case(t("serial,imei", "KM-1,3.56938E+14"), [R], {"scientific_notation"}),
    "power of ten with a comma": Case(
        t("serial;imei", "KM-1;3,56938E+14"), [R], {"scientific_notation"}, layout="semicolon"
    ),
    "point zero": Case(t("imei", f"{I1}.0"), [A], {"decimal_ending"}),
    "thousands": Case(t("imei", '"356,938,035,643,809"'), [R], {"thousands_separators"}),
    "dates for serials": Case(t("serial", "12-Mar", "2024-03-01"), [R, R], {"looks_like_date"}),
    "cell errors": Case(t("serial", "#N/A", "#####"), [R, R], {"cell_error"}),
    "apostrophes": Case(t("serial", "'00123"), [A], {"leading_apostrophe"}),
    "formula to keep zeros": Case(t("serial", '"=""00123"""'), [A], {"text_formula_unwrapped"}),
    "zeros lost from an imei": Case(t("imei", "1054203237518"), [R], {"digits_lost"}),
    "placeholders": Case(
        t("serial", "N/A", "TBC", "0000000000", "To be filled by O.E.M.", "123456789"),
        [R] * 5,
        {"placeholder"},
    ),
    "fourteen and sixteen digits": Case(
        t("imei", I1[:14], I2[:14] + "01"),
        [A, A],
        {"check_digit_added", "software_version_dropped"},
    ),
    "mistyped imei": Case(
        t("imei", I1[:14] + str((int(I1[14]) + 1) % 10)), [R], {"imei_check_failed"}
    ),
    # rows that contradict each other
    "the same row twice": Case(t("serial,site", "KM-1,x", "KM-1,x"), [A, U], {"duplicate_row"}),
    "rows that disagree": Case(t("serial,site", "KM-1,x", "KM-1,y"), [C, C], {"rows_disagree"}),
    "too many cells": Case(t("serial,site", "KM-1,Dunlin,Quay", "KM-2,x"), [R, A], {"extra_cells"}),
    "a formula in a name": Case(t("serial,note", 'KM-1,"=HYPERLINK(""x"")"'), [R], {"formula"}),
    "unknown platform and ownership": Case(
        t("serial,platform,ownership", "KM-1,beos,mine"),
        [R],
        {"platform_unknown", "ownership_unknown"},
    ),
    "no identifier column": Case(t("colour,weight", "red,3"), [R], {"nothing_valid"}),
    # workbooks
    "workbook": Case(
        xlsx(("Tabelle1", [["Serial", "IMEI"], ["KM-1", I1]])), [A], layout="workbook"
    ),
    "imeis as numbers": Case(
        xlsx(("A", [["serial", "imei"], ["KM-1", int(I1)], ["KM-2", float(I2)]])),
        [A, A],
        layout="workbook",
    ),
    "title and headers on the third line": Case(
        xlsx(
            ("A", [["Serial", "IMEI", "Datum"], ["KM-1", I1, date(2026, 1, 9)]]),
            merged_title="Lieferung März",
        ),
        [A],
        layout="workbook",
        read={"header_row": 3},
    ),
    "dates where serials should be": Case(
        xlsx(("A", [["serial", "site"], [date(2024, 3, 1), "x"]])),
        [R],
        {"looks_like_date"},
        layout="workbook",
    ),
    "the right sheet of three": Case(
        xlsx(
            ("Cover", [["Ondry Trade"], ["Invoice 7"]]),
            ("Geräte", [["S/N", "IMEI"], ["KM-1", I1]]),
            ("Prices", [["article", "price"], ["S2", 189]]),
        ),
        [A],
        layout="workbook",
        read={"sheet": "Geräte"},
    ),
    "opendocument": Case(
        ods([["Serial", "IMEI 1"], ["KM-1", I1], ["KM-2", "3.5E+14"]]),
        [A, R],
        {"scientific_notation"},
        layout="workbook",
    ),
    "opendocument with a padded sheet": Case(
        ods(
            [["serial"], ["KM-1"]],
            '<table:table-row table:number-rows-repeated="1048570"><table:table-cell'
            ' table:number-columns-repeated="1024"/></table:table-row>',
        ),
        [A],
        layout="workbook",
    ),
}


def decide(content: bytes, reading: Reading | None = None) -> tuple[lots.Decided, object]:
    manifest = read_table(content, reading or Reading())
    return lots.decide(
        lots.prepare(manifest, lots.meaning_of(manifest)[0], {}, TODAY), NOBODY
    ), manifest


def test_the_corpus_is_large_enough() -> None:
    assert len(CASES) + len(REFUSED) >= 50


@pytest.mark.parametrize("name", CASES)
def test_what_becomes_of_each_row(name: str) -> None:
    case = CASES[name]
    content = case.content if isinstance(case.content, bytes) else case.content()
    decided, manifest = decide(content)
    assert decided.rows["verdict"].to_list() == case.verdicts, decided.notes
    assert case.notes <= set(decided.notes["code"])
    assert getattr(manifest, "layout") == case.layout  # noqa: B009 - the manifest is opaque here
    for what, value in case.read.items():
        assert getattr(manifest, what) == value


REFUSED: dict[str, tuple[bytes | Callable[[], bytes], str]] = {
    "nothing": (b"", "empty_file"),
    "blanks": (b" \r\n\t\n", "empty_file"),
    "header alone": (b"serial,imei\n", "no_rows"),
    "a picture": (b"\x89PNG\r\n\x1a\n" + bytes(range(256)), "not_a_table"),
    "a nul byte": (b"serial\nKM\0-1\n", "not_text"),
    "a control character": (b"serial\nKM\x02-1\n", "not_text"),
    "broken utf-16": (b"\xff\xfes\x00e\x00\x00\xd8", "wrong_encoding"),
    "open quote": (b'serial,site\n"KM-1,Dunlin\nKM-2,Petrel\n', "unreadable_row"),
    "too many columns": (
        (",".join(f"c{i}" for i in range(5_000)) + "\nx\n").encode(),
        "too_many_columns",
    ),
    "json that breaks off": (b'{"serial": "KM-1"}\n{"serial": \n', "unreadable_row"),
    "json of lists": (b'{"serial": "KM-1"}\n[1, 2]\n', "unreadable_row"),
    "old workbook": (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(600), "old_workbook"),
    "another archive": (archive({"readme.txt": b"hello"}), "not_a_workbook"),
    "half a workbook": (xlsx(("A", [["serial"], ["KM-1"]]))[:900], "unreadable_workbook"),
    "empty workbook": (xlsx(("A", [])), "no_rows"),
    "an archive that expands without end": (lambda: bomb(1_600), "expands_too_far"),
    "opendocument repeated without end": (
        ods(
            [["serial"]],
            '<table:table-row table:number-rows-repeated="999999999"><table:table-cell'
            ' office:value-type="string"><text:p>x</text:p></table:table-cell></table:table-row>',
        ),
        "expands_too_far",
    ),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_is_no_manifest_is_refused_with_words(name: str) -> None:
    given, code = REFUSED[name]
    content = given if isinstance(given, bytes) else given()
    tracemalloc.start()
    with pytest.raises(SortitorError) as caught:
        decide(content)
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert caught.value.code == code
    assert caught.value.detail
    assert caught.value.remedy
    assert peak < 100_000_000, "refused in bounded memory"


def test_a_sheet_and_a_header_line_can_be_chosen() -> None:
    content = xlsx(
        ("A", [["serial", "site"], ["KM-1", "x"]]),
        ("B", [["note"], ["serial"], ["KM-2"], ["KM-3"]]),
    )
    decided, manifest = decide(content, Reading("B", 2))
    assert decided.rows["verdict"].to_list() == [A, A]
    assert manifest.numbers.to_list() == [3, 4]
    with pytest.raises(SortitorError, match="A, B"):
        decide(content, Reading("C"))


@pytest.mark.parametrize(
    "form", ["comma", "semicolon", "tab", "pipe", "utf-16", "cp1252", "xlsx", "ods", "json"]
)
def test_format_in_format_out_the_same_verdicts(form: str) -> None:
    import json

    grid = [
        ["serial", "imei", "site"],
        ["KM-1", I1, "Dünlin"],
        ["KM-1", I1, "Dünlin"],
        ["TBC", "", "x"],
        ["KM-3", "3.5E+14", "y"],
        ["", I3, "z"],
        ["KM-4", "", "a"],
        ["KM-4", "", "b"],
    ]
    separator = {"semicolon": ";", "tab": "\t", "pipe": "|"}.get(form, ",")
    text = "\n".join(separator.join(row) for row in grid) + "\n"
    content = {
        "xlsx": lambda: xlsx(("A", [[cell or None for cell in row] for row in grid])),
        "ods": lambda: ods(grid),
        "json": (
            lambda: "\n".join(
                json.dumps(dict(zip(grid[0], row, strict=True))) for row in grid[1:]
            ).encode()
        ),
        "utf-16": lambda: b"\xff\xfe" + text.encode("utf-16-le"),
        "cp1252": lambda: text.encode("cp1252"),
    }.get(form, text.encode)()
    decided, _ = decide(content)
    assert decided.rows["verdict"].to_list() == [A, U, R, R, A, C, C]
    assert set(decided.notes["code"]) == {
        "duplicate_row",
        "placeholder",
        "scientific_notation",
        "rows_disagree",
    }


@pytest.mark.parametrize("platform", CATALOGUE)
def test_a_template_is_understood_as_it_stands(platform) -> None:
    headers = template_headers(platform)
    assert set(understand(headers)) == set(headers)


def test_hostile_names_are_only_text() -> None:
    content = t(
        "serial,site",
        "KM-1,Robert'); DROP TABLE devices;--",
        "KM-2,<script>alert(1)</script>",
        "KM-3,../../etc/passwd",
    )
    decided, _ = decide(content)
    assert decided.rows["verdict"].to_list() == [A, A, A]
