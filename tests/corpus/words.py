"""Placeholders, lines that are no rows, several numbers in one cell."""

from __future__ import annotations

from tests.corpus.cases import I1, I2, I3, I4, A, C, Case, N, R, U, t

S = [f"R58M{number:06d}" for number in range(10, 40)]


def placeholder(word: str) -> Case:
    """Two phones without a serial number: none of them is a device called like the word."""
    return Case(
        t("Serial;Model", f"{S[0]};Mate 3", f"{word};Mate 3", f"{S[1]};Mate 3"),
        [A, R, A],
        {"placeholder"},
        keys={S[0], S[1]},
    )


WORDS = (
    "unbekannt", "k.A.", "k. A.", "n.a.", "N/A", "n/a", "na", "inconnu", "brak", "brak danych",
    "fehlt", "folgt", "leer", "not available", "xxxxxx", "0", "-", "--", "????", "000000000", "TBC",
    "to follow", "wird nachgereicht", "non disponible", "sin serie", "desconocido", "sconosciuto",
    "nieznany", "bilinmiyor", "yok", "onbekend", "geen", "不明", "なし", "غير معروف", "لا يوجد",
    "AAAAAAAA", "11111111", "123456789", "siehe Karton", "None", "NULL", "undefined", "TRUE", "nil",
)  # fmt: skip

CASES: dict[str, Case] = {
    **{f"placeholder: {word}": placeholder(word) for word in WORDS},
    "a serial number of letters only": Case(
        t("serial", S[0], "Charger", S[1]), [A, R, A], {"words"}, keys={S[0], S[1]}
    ),
    "a sentence": Case(
        t("serial,model", f"{S[0]},x", "see delivery note 12,x", f"{S[1]},x"),
        [A, R, A],
        {"words"},
        keys={S[0], S[1]},
    ),
    "a sentence in German": Case(
        t("Seriennummer;Modell", f"{S[0]};x", "siehe Rechnung vom 3.4.;x"), [A, R], {"words"}
    ),
    "letters only, all of them": Case(
        t("serial", "QWKPLM", "ABXYZD", "HGFRTZ", "KKLMNA"), [A, A, A, A]
    ),
    "one value in many rows": Case(
        t(
            "serial,imei",
            *(f"{S[n]},{none}" for n, none in enumerate([""] * 12)),
            f"SM-A515F,{I1}",
            f"SM-A515F,{I2}",
            f"SM-A515F,{I3}",
        ),
        [A] * 15,
        {"no_number"},
        keys={*S[:12], I1, I2, I3},
    ),
    "a placeholder beside a number": Case(
        t("serial,imei", f"unbekannt,{I1}", f"{S[0]},n/a"),
        [A, A],
        {"no_number"},
        keys={I1, S[0]},
    ),
    "words in both columns": Case(
        t("serial,imei", "fehlt,fehlt", f"{S[0]},"), [R, A], {"placeholder"}
    ),
    "two deliveries with unbekannt": Case(
        t("Seriennummer;IMEI", f"unbekannt;{I1}", f"unbekannt;{I2}"),
        [A, A],
        {"no_number"},
        keys={I1, I2},
    ),
    "an amount for a serial number": Case(
        t("serial", S[0], "0.5", '"189,00"'), [A, R, R], {"fraction"}
    ),
    "a much shorter number": Case(t("serial", *S[:12], "A12"), [A] * 13, {"unlike_others"}),
    # lines that are no rows
    "headers again": Case(
        t("Serial;Model", f"{S[0]};x", "Serial;Model", f"{S[1]};x"),
        [A, N, A],
        {"line_header"},
        keys={S[0], S[1]},
    ),
    "headers again, alone": Case(t("Serial", S[0], "Serial", S[1]), [A, N, A], {"line_header"}),
    "headers in a second language": Case(
        t("Seriennummer;Hersteller;Modell", "Serial number;Manufacturer;Model", f"{S[0]};Kelmar;x"),
        [N, A],
        {"line_header"},
    ),
    "a section's title": Case(
        t("Serial;Model;Site", "Phones for Nordhafen;;", f"{S[0]};x;y", "Tablets;;", f"{S[1]};x;y"),
        [N, A, N, A],
        {"line_title"},
        keys={S[0], S[1]},
    ),
    "a section's title with a number": Case(
        t("Serial;Model;Site", "Deck 3;;", f"{S[0]};x;y", "Deck 4;;", f"{S[1]};x;y"),
        [N, A, N, A],
        {"line_title"},
        keys={S[0], S[1]},
    ),
    "a total": Case(
        t("Serial;Model", f"{S[0]};x", f"{S[1]};x", "TOTAL;2"),
        [A, A, N],
        {"line_total"},
        keys={S[0], S[1]},
    ),
    "a total in German": Case(
        t("Seriennummer;IMEI;Modell", f"{S[0]};{I1};x", "Summe: 1 Gerät;;", "Gesamt;1;"),
        [A, N, N],
        {"line_total"},
        keys={S[0], I1},
    ),
    "a total in the model's column": Case(
        t("Serial;Model;Price", f"{S[0]};x;12", ";Total;12"), [A, N], {"line_total"}
    ),
    "TOTAL40": Case(
        t("serial", S[0], S[1], "TOTAL40"), [A, A, N], {"line_total"}, keys={S[0], S[1]}
    ),
    "a page line": Case(
        t("Serial;Model", f"{S[0]};x", "Page 1 of 3;", f"{S[1]};x", "Seite 2 von 3;"),
        [A, N, A, N],
        {"line_page"},
        keys={S[0], S[1]},
    ),
    "PAGE3OF3": Case(t("serial", S[0], "PAGE3OF3"), [A, N], {"line_page"}, keys={S[0]}),
    "signatures": Case(
        t(
            "Serial;Model",
            f"{S[0]};x",
            "",
            "Received by: ______;Date: ______",
            "Mit freundlichen Grüßen;",
            "Kelmar Handel GmbH;",
        ),
        [A, N, N, N],
        {"line_sign_off", "line_title"},
    ),
    "hints under the headers": Case(
        t(
            "Serial;IMEI;Site",
            "mandatory;15 digits;optional",
            "e.g. R58M123456;e.g. 356938035643809;e.g. Nordhafen",
            f"{S[0]};{I1};x",
        ),
        [N, N, A],
        {"line_hint"},
        keys={S[0], I1},
    ),
    "hints in brackets": Case(
        t("Seriennummer;Modell", "(Pflichtfeld);(Freitext)", f"{S[0]};x"), [N, A], {"line_hint"}
    ),
    "cartons of a shipping notice": Case(
        t(
            "Serial;IMEI;Model",
            "Pallet 1;;",
            "Carton 1 of 2;;",
            f"{S[0]};{I1};x",
            "Carton 2 of 2;;",
            f"{S[1]};{I2};x",
            "SSCC 00340123450000000018;;",
        ),
        [N, N, A, N, A, N],
        {"line_packing"},
        keys={S[0], S[1], I1, I2},
    ),
    "a bare pallet number": Case(
        t("Serial;IMEI;Model", "00340123450000000018;;", f"{S[0]};{I1};x"),
        [N, A],
        {"line_packing"},
        keys={S[0], I1},
    ),
    "cartons in a column of their own": Case(
        t("Carton;Serial;Model", f"Carton 1;{S[0]};x", f"Carton 1;{S[1]};x"), [A, A]
    ),
    "ruled lines": Case(
        t("Serial;Model", "------;------", f"{S[0]};x", "=====;====="), [N, A, N], {"line_rule"}
    ),
    "a second table below": Case(
        t(
            "Serial;Model;Site",
            f"{S[0]};x;y",
            f"{S[1]};x;y",
            "",
            "Accessories;Quantity;Price",
            "USB3;40;12.50",
            "Case;40;9.90",
        ),
        [A, A, N, N, N],
        {"line_other_table"},
        keys={S[0], S[1]},
    ),
    "a second table with numbers in other columns": Case(
        t(
            "Serial;Model;Maker",
            f"{S[0]};x;Kelmar",
            "",
            "Model;Maker;Serial number",
            f"y;Kelmar;{S[1]}",
            f"KX-200;Kelmar;{S[2]}",
        ),
        [A, N, N, N],
        {"line_other_table"},
        keys={S[0]},
    ),
    "a second table beside": Case(
        t(
            "Serial;Maker;;Model;Quantity",
            f"{S[0]};Kelmar;;Mate 3;40",
            f"{S[1]};Kelmar;;Mate 4;20",
            f"{S[2]};Kelmar;;;",
            f"{S[3]};Kelmar;;;",
        ),
        [A] * 4,
        remarks={"table_beside"},
        values={"model": [None] * 4},
    ),
    "a block of details above": Case(
        t(
            "Delivery note;4711",
            "Supplier;Ondry Trade",
            "Order;WL-2602",
            "Date;3.3.2026",
            "",
            "Serial No.;Model;Site",
            f"{S[0]};Mate 3;Dunlin",
            f"{S[1]};Mate 3;Dunlin",
        ),
        [A, A],
        keys={S[0], S[1]},
        values={"model": ["Mate 3"] * 2},
    ),
    "a broken row behind an empty line is no table": Case(
        t(
            "Serial;Model;Site",
            f"{S[0]};x;y",
            "",
            "unbekannt;Mate;Nordhafen",
            f"{S[1]};x;y",
            f"{S[2]};x;y",
        ),
        [A, R, A, A],
        {"placeholder"},
        keys={S[0], S[1], S[2]},
    ),
    # two numbers in one cell
    "two IMEIs, a blank": Case(t("imei", f"{I1} {I2}"), [A], {"numbers_apart"}, keys={I1, I2}),
    "two IMEIs, a slash": Case(t("imei", f"{I1}/{I2}"), [A], {"numbers_apart"}, keys={I1, I2}),
    "two IMEIs, slash and blanks": Case(
        t("imei", f"{I1} / {I2}"), [A], {"numbers_apart"}, keys={I1, I2}
    ),
    "two IMEIs, a line break": Case(
        t("serial,imei", f'{S[0]},"{I1}\n{I2}"'), [A], {"numbers_apart"}, keys={S[0], I1, I2}
    ),
    "two IMEIs, and": Case(t("imei", f"{I1} and {I2}"), [A], {"numbers_apart"}, keys={I1, I2}),
    "two IMEIs, und": Case(t("imei", f"{I1} und {I2}"), [A], {"numbers_apart"}, keys={I1, I2}),
    "two IMEIs, semicolon": Case(
        t("serial,imei", f"{S[0]},{I1};{I2}"), [A], {"numbers_apart"}, keys={S[0], I1, I2}
    ),
    "two IMEIs with labels": Case(
        t("imei", f"IMEI1: {I1} IMEI2: {I2}"), [A], {"numbers_apart"}, keys={I1, I2}
    ),
    "two IMEIs glued": Case(t("imei", I1 + I2), [R], {"imei_length"}, keys=set()),
    "an IMEI and half of one": Case(
        t("imei", f"{I1} / {I2[:9]}"), [R], {"two_numbers"}, keys=set()
    ),
    "an IMEI with a label": Case(t("imei", f"IMEI: {I1}"), [A], {"label_removed"}, keys={I1}),
    "an IMEI in groups": Case(
        t("imei", f"{I1[:2]}-{I1[2:8]}-{I1[8:14]}-{I1[14]}", f"{I2[:8]} {I2[8:14]} {I2[14]}"),
        [A, A],
        keys={I1, I2},
    ),
    "an IMEI and a placeholder": Case(t("imei", f"{I1} / n.a."), [A], {"words_removed"}, keys={I1}),
    "two serial numbers, a blank": Case(
        t("serial", S[0], f"{S[1]} {S[2]}"), [A, R], {"two_numbers"}, keys={S[0]}
    ),
    "two serial numbers, a slash": Case(
        t("serial", S[0], f"{S[1]}/{S[2]}"), [A, R], {"two_numbers"}, keys={S[0]}
    ),
    "two serial numbers, a line break": Case(
        t("serial,site", f'"{S[1]}\n{S[2]}",x'), [R], {"two_numbers"}, keys=set()
    ),
    "a model before the serial number": Case(
        t("serial,site", f"Mate3 {S[0]},x"), [R], {"two_numbers"}, keys=set()
    ),
    "two serial numbers, and": Case(
        t("serial", f"{S[1]} and {S[2]}"), [R], {"two_numbers"}, keys=set()
    ),
    "a serial number with its label": Case(
        t("serial", f"S/N: {S[0]}", f"SN {S[1]}", f"Serial No. {S[2]}", f"Seriennr.: {S[3]}"),
        [A] * 4,
        {"label_removed"},
        keys=set(S[:4]),
    ),
    "a serial number in groups": Case(
        t("serial", S[0], f"{S[1][:4]} {S[1][4:]}", "5CG-12/01"),
        [A, A, A],
        keys={S[0], S[1], "5CG-12/01"},
    ),
    "an IMEI that stands for a serial number": Case(
        t("serial", f"IMEI {I1}"), [R], {"other_kind"}, keys=set()
    ),
    "two network addresses": Case(
        t("mac", "00:1B:44:11:3A:B7, 00:1B:44:11:3A:B8"[:17] + " / 00:1B:44:11:3A:B8"),
        [A],
        {"numbers_apart"},
        keys={"00:1B:44:11:3A:B7", "00:1B:44:11:3A:B8"},
    ),
    "the same row twice and a total": Case(
        t("serial,site", f"{S[0]},x", f"{S[0]},x", "Total,2"),
        [A, U, N],
        {"duplicate_row", "line_total"},
    ),
    "rows that disagree stay in conflict": Case(
        t("serial,site", f"{S[0]},x", f"{S[0]},y", f"{S[1]},x"), [C, C, A], {"rows_disagree"}
    ),
    "IMEI and MEID in one column": Case(
        t("IMEI/MEID", I1, "A0000002DBE3D1"), [A, A], {"read_as_meid"}, keys={I1, "A0000002DBE3D1"}
    ),
    "four of them": Case(
        t("imei", f"{I1} {I2} {I3} {I4}"), [A], {"numbers_apart"}, keys={I1, I2, I3, I4}
    ),
}
