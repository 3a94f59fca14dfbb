"""Letters, encodings, line ends, JSON; and files of other kinds, with what they truly are."""

from __future__ import annotations

import gzip
import json

from tests.corpus.cases import I1, I2, A, Case, R, t
from tests.corpus.words import S

SITES = {"site": ["Überseehafen Süd", "Kai 4"]}


def coded(encoding: str, site: str, remarks: set[str]) -> Case:
    """A file in an encoding, with a site that needs it."""
    return Case(
        t("serial;site", f"{S[0]};{site}", f"{S[1]};{site}", encoding=encoding),
        [A, A],
        remarks=remarks,
        values={"site": [site] * 2},
    )


CASES: dict[str, Case] = {
    "non-breaking blanks": Case(
        t("S/N;Maker;Site", f"{S[0]}\u00a0;Kelmar\u00a0;Quay\u00a04", f"{S[1]};Kelmar;Quay 4"),
        [A, A],
        keys={S[0], S[1]},
        values={"maker": ["Kelmar"] * 2, "site": ["Quay 4"] * 2},
    ),
    "marks without width": Case(
        t("S/N;Maker", f"\u200b{S[0]};Kel\u200bmar", f"{S[1]};Kelmar\ufeff"),
        [A, A],
        keys={S[0], S[1]},
        values={"maker": ["Kelmar"] * 2},
    ),
    "joiners of Persian stay": Case(
        t("S/N;Site", f"{S[0]};می\u200cناء"), [A], values={"site": ["می\u200cناء"]}
    ),
    "full-width letters": Case(
        t("S/N;Maker", f"Ｒ{S[0][1:]};Ｋｅｌｍａｒ"), [A], keys={S[0]}, values={"maker": ["Kelmar"]}
    ),
    "a Cyrillic letter in a serial number": Case(
        t("S/N", f"R58М{S[0][4:]}", S[1]), [A, A], {"look_alike_letters"}, keys={S[0], S[1]}
    ),
    "a Cyrillic letter in a maker": Case(
        t("S/N;Maker", f"{S[0]};Кelmar", f"{S[1]};Kelmar"),
        [A, A],
        {"look_alike_letters"},
        values={"maker": ["Kelmar"] * 2},
    ),
    "a Cyrillic site stays": Case(
        t("S/N;Site", f"{S[0]};Мурманск"), [A], values={"site": ["Мурманск"]}
    ),
    "a maker in two ways": Case(
        t("S/N;Maker", f"{S[0]};Kelmar", f"{S[1]};KELMAR", f"{S[2]};Kelmar GmbH", f"{S[3]};Kelmar"),
        [A] * 4,
        remarks={"maker_spelled"},
        values={"maker": ["Kelmar"] * 4},
    ),
    "a maker that is known": Case(
        t("S/N;Maker", f"{S[0]};kelmar inc.", f"{S[1]};KELMAR INC."),
        [A, A],
        remarks={"maker_spelled"},
        values={"maker": ["Kelmar"] * 2},
        known_makers=("Kelmar",),
    ),
    "a maker that is nearly known": Case(
        t("S/N;Maker", f"{S[0]};Kelmer"),
        [A],
        {"maker_near"},
        {"maker_near"},
        values={"maker": ["Kelmer"]},
        known_makers=("Kelmar",),
    ),
    "a leading apostrophe in a tag": Case(
        t("S/N;Asset tag", f"'{S[0]};'00123"),
        [A],
        {"leading_apostrophe"},
        keys={S[0]},
        values={"asset_tag": ["00123"]},
    ),
    "a town with an apostrophe": Case(
        t("S/N;Site", f"{S[0]};'s-Hertogenbosch"), [A], values={"site": ["'s-Hertogenbosch"]}
    ),
    "a formula that keeps zeros, in a tag": Case(
        t("S/N,Asset tag", f'{S[0]},"=""00123"""'),
        [A],
        {"text_formula_unwrapped"},
        values={"asset_tag": ["00123"]},
    ),
    "an error in every column": Case(
        t("S/N;Model;Remarks;Colour", f"{S[0]};#REF!;#N/A;#DIV/0!"),
        [A],
        {"cell_error_blank"},
        values={"model": [None], "note": [None]},
    ),
    "an error in German": Case(
        t("S/N;Modell", f"{S[0]};#BEZUG!", "#NV;x"), [A, R], {"cell_error_blank", "cell_error"}
    ),
    # encodings
    "UTF-8": Case(
        t("serial;site", f"{S[0]};Überseehafen Süd", f"{S[1]};Kai 4"), [A, A], values=SITES
    ),
    "Windows-1252": coded("cp1252", "Überseehafen – Süd", set()),
    "Windows-1252, French": coded("cp1252", "Forêt d’Orléans n° 5", set()),
    "Windows-1250": coded("cp1250", "Łódź Północ", {"encoding_doubted"}),
    "Windows-1251": coded("cp1251", "Мурманск порт", {"encoding_doubted"}),
    "Windows-1253": coded("cp1253", "Πειραιάς λιμάνι", {"encoding_doubted"}),
    "Windows-1254": coded("cp1254", "İstanbul Beşiktaş", {"encoding_doubted"}),
    "Windows-1256": coded("cp1256", "ميناء الشمال", {"encoding_doubted"}),
    "code page 850": coded("cp850", "Überseehafen Größe", {"encoding_doubted"}),
    "Shift_JIS": coded("cp932", "横浜港", {"encoding_doubted"}),
    "UTF-16 without its mark": coded("utf-16-le", "Überseehafen Süd", {"no_byte_order_mark"}),
    "UTF-16, big end first, without its mark": coded(
        "utf-16-be", "Überseehafen Süd", {"no_byte_order_mark"}
    ),
    "UTF-8 and Windows-1252 in one file": Case(
        t("serial;site", f"{S[0]};Süd") + t(f"{S[1]};Süd", encoding="cp1252"),
        [A, A],
        remarks={"mixed_encodings"},
        values={"site": ["Süd"] * 2},
    ),
    "encoded twice": Case(
        t("serial;site", f"{S[0]};MÃ¼nchen"),
        [A],
        remarks={"encoded_twice"},
        values={"site": ["München"]},
    ),
    # line ends and rows
    "lines that end in three ways": Case(
        f"serial;site\r\n{S[0]};x\n{S[1]};y\r{S[2]};z\r\n".encode(),
        [A] * 3,
        remarks={"mixed_line_ends"},
        keys=set(S[:3]),
    ),
    "a lone carriage return in a cell": Case(
        f"serial;site;note\r\n{S[0]};x;a\rb\r\n{S[1]};y;c\r\n".encode(),
        [A, A],
        remarks={"mixed_line_ends"},
        keys=set(S[:2]),
    ),
    "the separator said": Case(
        t("sep=;", "serial;site", f"{S[0]};Quay, 4"), [A], values={"site": ["Quay, 4"]}
    ),
    "rows in quotation marks as a whole": Case(
        t('"serial,site"', f'"{S[0]},Quay"', f'"{S[1]},Quay"'), [A, A], keys=set(S[:2])
    ),
    # JSON
    "a JSON array": Case(
        json.dumps([{"serial": S[0], "imei": I1}, {"serial": S[1]}]).encode(),
        [A, A],
        keys={S[0], S[1], I1},
    ),
    "a JSON array over lines": Case(
        json.dumps([{"serial": S[0]}], indent=2).encode(), [A], keys={S[0]}
    ),
    "JSON with objects inside": Case(
        json.dumps(
            {
                "delivery": {
                    "note": 4711,
                    "devices": [
                        {"hardware": {"serialNumber": S[0], "imei": [I1, I2]}, "site": "x"}
                    ],
                }
            }
        ).encode(),
        [A],
        remarks={"json_nested"},
        keys={S[0], I1, I2},
    ),
    "JSON Lines with objects inside": Case(
        t(
            json.dumps({"device": {"serial": S[0]}, "owner": {"mail": "a@x.example"}}),
            json.dumps({"device": {"serial": S[1]}}),
        ),
        [A, A],
        keys={S[0], S[1]},
    ),
    "one JSON object": Case(
        json.dumps({"serial": S[0], "site": "x"}, indent=1).encode(), [A], keys={S[0]}
    ),
    "a number of 20 digits in JSON": Case(
        b'[{"serial": 12345678901234567890}]', [A], keys={"12345678901234567890"}
    ),
}

REFUSED: dict[str, tuple[bytes, str]] = {
    "HTML called .xls": (
        b"<html><body><table><tr><td>Serial</td></tr></table></body></html>",
        "web page",
    ),
    "a table of HTML": (b"\n  <table><tr><td>x</td></tr></table>", "web page"),
    "XML of 2003": (
        b'<?xml version="1.0"?><?mso-application progid="Excel.Sheet"?>'
        b'<Workbook xmlns="urn:schemas-microsoft-com:office:spreadsheet"/>',
        "2003",
    ),
    "flat ODS": (
        b'<?xml version="1.0"?><office:document'
        b' xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"/>',
        "FODS",
    ),
    "XML": (b'<?xml version="1.0"?><devices><device serial="1"/></devices>', "XML"),
    "PDF": (b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n", "PDF"),
    "gzip": (gzip.compress(b"serial\nKM-1\n"), "gzip"),
    "an old workbook": (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(600), "2007"),
    "a mail": (b"Return-Path: <a@x.example>\nSubject: devices\n\nserial\n", "mail"),
    "two lists in JSON": (
        b'{"phones": [{"serial": "A"}], "tablets": [{"serial": "B"}]}',
        "several lists",
    ),
    "broken JSON": (b'[{"serial": "A"},\n {"serial": }]', "Line 2"),
    "a JSON list of texts": (b'[{"serial": "A"}, "B"]', "not an object"),
}
