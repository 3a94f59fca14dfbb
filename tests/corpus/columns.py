"""Dates, and what columns are called."""

from __future__ import annotations

from tests.corpus.cases import I1, I2, I3, A, Case, R, t
from tests.corpus.words import S

D = "purchased_on"


def dates(*given: str, header: str = "Kaufdatum") -> list[str]:
    """Lines of a file with these dates."""
    return [f"Seriennummer;{header}", *(f"{S[n]};{text}" for n, text in enumerate(given))]


def heads(serial: str, more: str, kind: str = "warranty_until") -> Case:
    """A file with these two headers, and what they mean."""
    return Case(
        t(f"{serial};{more}", f"{S[0]};2027-03-31"), [A], keys={S[0]}, values={kind: ["2027-03-31"]}
    )


def called(header: str, column: str, value: str, kept: str | None = None) -> Case:
    """A file with a serial number and a column of this title."""
    return Case(
        t(f"S/N;{header}", f"{S[0]};{value}"), [A], keys={S[0]}, values={column: [kept or value]}
    )


CASES: dict[str, Case] = {
    "two-digit years": Case(
        t(*dates("01.02.25", "31.12.24")), [A, A], values={D: ["2025-02-01", "2024-12-31"]}
    ),
    "the column shows: day first": Case(
        t(*dates("01/02/2025", "31/12/2025")),
        [A, A],
        remarks={"date_by_order"},
        values={D: ["2025-02-01", "2025-12-31"]},
    ),
    "the column shows: month first": Case(
        t(*dates("01/02/2025", "12/31/2025")),
        [A, A],
        remarks={"date_by_order"},
        values={D: ["2025-01-02", "2025-12-31"]},
    ),
    "one meaning": Case(t(*dates("31/12/2025")), [A], values={D: ["2025-12-31"]}),
    "nothing decides": Case(
        t(*dates("01/02/2025", "03/04/2025", "05/05/2025")),
        [R, R, A],
        {"date_order_open"},
        {"date_order_open"},
    ),
    "the column contradicts itself": Case(
        t(*dates("31/12/2025", "12/31/2025", "01/02/2025")), [A, A, R], {"date_order_open"}
    ),
    "another column decides": Case(
        t("S/N;Purchase date;Warranty until", f"{S[0]};01/02/2025;28/02/2028"),
        [A],
        remarks={"date_by_order"},
        values={D: ["2025-02-01"], "warranty_until": ["2028-02-28"]},
    ),
    "before 1990": Case(t(*dates("01.01.1900", "2025-01-01")), [R, A], {"date_unlikely"}),
    "far ahead": Case(t(*dates("2035-01-01", "2025-01-01")), [R, A], {"date_unlikely"}),
    "a warranty years ahead": heads("S/N", "Warranty until"),
    "with a time": Case(
        t(*dates("2025-03-01 00:00:00", "31.12.2025 10:30")),
        [A, A],
        values={D: ["2025-03-01", "2025-12-31"]},
    ),
    "names of months": Case(
        t(
            *dates(
                "12. März 2025",
                "12-Mar-25",
                "Mar 12, 2025",
                "12 mars 2025",
                "12 de marzo de 2025",
                "12 marca 2025",
            )
        ),
        [A] * 6,
        values={D: ["2025-03-12"] * 6},
    ),
    "Japanese": Case(t(*dates("2025年3月12日")), [A], values={D: ["2025-03-12"]}),
    "without marks": Case(t(*dates("20250312")), [A], values={D: ["2025-03-12"]}),
    "a spreadsheet's days": Case(
        t(*dates("45717")), [A], {"date_from_number"}, values={D: ["2025-03-01"]}
    ),
    "a month only": Case(
        t("S/N;Garantie bis", f"{S[0]};03/2027"),
        [A],
        {"date_month_only"},
        values={"warranty_until": ["2027-03-31"]},
    ),
    "no date at all": Case(t(*dates("gestern")), [R], {"date_unreadable"}),
    "a placeholder for a date": Case(
        t(*dates("n/a", "-", "unbekannt")), [A] * 3, {"placeholder_blank"}, values={D: [None] * 3}
    ),
    "a weak title with other cells": Case(
        t("S/N;Garantie", f"{S[0]};24 Monate"), [A], values={"warranty_until": [None]}
    ),
    # what columns are called
    "German": heads("Serien-Nr.", "Garantieende"),
    "German, in full": heads("Geräte-Seriennummer", "Garantie bis"),
    "French": heads("N° de série", "Fin de garantie"),
    "French, in full": heads("Numéro de série", "Date de fin de garantie"),
    "Spanish": heads("Nº de serie", "Fin de garantía"),
    "Spanish, in full": heads("Número de serie", "Garantía hasta"),
    "Italian": heads("Matricola", "Scadenza garanzia"),
    "Italian, in full": heads("Numero di serie", "Garanzia fino al"),
    "Polish": heads("Nr seryjny", "Gwarancja do"),
    "Polish, in full": heads("Numer seryjny", "Koniec gwarancji"),
    "Turkish": heads("Seri No", "Garanti bitiş"),
    "Turkish, in full": heads("Seri numarası", "Garanti bitiş tarihi"),
    "Dutch": heads("Serienr.", "Garantie tot"),
    "Japanese headers": heads("シリアル番号", "保証期限"),
    "Arabic": heads("الرقم التسلسلي", "الضمان حتى"),
    "an inventory number": called("Inv.-Nr.", "asset_tag", "IN-77"),
    "a French inventory number": called("N° d'inventaire", "asset_tag", "IN-77"),
    "a Japanese maker": called("メーカー", "maker", "Kelmar"),
    "a Turkish site": called("Konum", "site", "Liman 4"),
    "a Polish department": called("Dział", "department", "Mostek 2"),
    "an Arabic model": called("الموديل", "model", "Mate 3"),
    "an Italian maker": called("Produttore", "maker", "Kelmar"),
    "a Spanish order": called("Nº de pedido", "order_name", "WL-26"),
    "a Dutch department": called("Afd.", "department", "Dek 2"),
    "two languages in one title": called("Standort / Location", "site", "Quay 4"),
    "a title with a line break": Case(
        t('"Serial\nnumber";Site', f"{S[0]};Quay 4"), [A], keys={S[0]}
    ),
    "words run together": Case(
        t("SerialNumber;deviceModel", f"{S[0]};Mate 3"), [A], values={"model": ["Mate 3"]}
    ),
    "a column that counts": Case(
        t("Serial No.;Device serial number;Site", *(f"{97 + n};{S[n]};Quay" for n in range(4))),
        [A] * 4,
        keys=set(S[:4]),
    ),
    "only a column that counts": Case(
        t("Serial No.;IMEI", f"97;{I1}", f"98;{I2}", f"99;{I3}"),
        [A] * 3,
        remarks={"column_counts"},
        keys={I1, I2, I3},
    ),
    "Vendor beside Manufacturer": Case(
        t("S/N;Vendor;Manufacturer", f"{S[0]};Ondry Trade;Kelmar"),
        [A],
        values={"maker": ["Kelmar"], "supplier": ["Ondry Trade"]},
    ),
    "Vendor alone": Case(t("S/N;Vendor", f"{S[0]};Kelmar"), [A], values={"maker": ["Kelmar"]}),
    "IMEI (SIM1), IMEI (SIM2)": Case(
        t("IMEI (SIM1);IMEI (SIM2)", f"{I1};{I2}"), [A], keys={I1, I2}
    ),
    "IMEIs that are called serial numbers": Case(
        t("Serial;Site", f"{I1};x", f"{I2};x", f"{I3};x"),
        [A] * 3,
        remarks={"column_by_content"},
        keys={I1, I2, I3},
        values={"site": ["x"] * 3},
    ),
    "one column under a title": Case(
        t("Device list of March", *S[:4]), [A] * 4, remarks={"column_by_content"}, keys=set(S[:4])
    ),
    "the version of the system is no platform": Case(
        t("S/N;OS version", f"{S[0]};14", f"{S[1]};13.2"), [A, A], values={"platform": [None, None]}
    ),
    "an empty IMEI/MEID beside IMEI": Case(
        t("IMEI/MEID;IMEI;S/N", f";{I1};{S[0]}"), [A], keys={I1, S[0]}
    ),
    "the serial number of something else": Case(
        t("Charger serial;S/N", f"CH0000001;{S[0]}", f"CH0000002;{S[1]}"), [A, A], keys={S[0], S[1]}
    ),
    "a SIM's serial number": Case(
        t("SIM serial number;IMEI", f"8949000000000000001;{I1}"), [A], keys={I1}
    ),
    "two columns called serial": Case(
        t("Serial;Serial", f"n/a;{S[0]}", f"n/a;{S[1]}"), [A, A], keys={S[0], S[1]}
    ),
    "a title that says nothing over IMEIs": Case(
        t("Kennung;Modell", f"{I1};x", f"{I2};x", f"{I3};x"),
        [A] * 3,
        remarks={"column_by_content"},
        keys={I1, I2, I3},
    ),
    "no headers": Case(
        t(f"{S[0]};{I1};Android;Nordhafen", f"{S[1]};{I2};Android;Nordhafen"),
        [A, A],
        remarks={"no_headers", "column_by_content"},
        keys={S[0], S[1], I1, I2},
        values={"platform": ["android"] * 2},
    ),
    "no headers, numbers only": Case(
        t(f"{I1},{S[0]}", f"{I2},{S[1]}"), [A, A], keys={I1, I2, S[0], S[1]}
    ),
    "platforms in everyday words": Case(
        t("S/N;OS", f"{S[0]};Android 14", f"{S[1]};iPadOS 17.4", f"{S[2]};ANDROID"),
        [A] * 3,
        remarks={"words_understood"},
        values={"platform": ["android", "ios", "android"]},
    ),
    "computers in everyday words": Case(
        t("S/N;OS", f"{S[0]};Windows 11 Pro", f"{S[1]};macOS Sonoma", f"{S[2]};Ubuntu 22.04 LTS"),
        [A] * 3,
        values={"platform": ["windows", "macos", "linux"]},
    ),
    "no platform": Case(t("S/N;OS", f"{S[0]};PalmOS"), [R], {"platform_unknown"}),
    "two platforms": Case(t("S/N;OS", f"{S[0]};Windows / Linux"), [R], {"platform_unknown"}),
    "ownerships in everyday words": Case(
        t(
            "S/N;Eigentum",
            f"{S[0]};firmeneigen",
            f"{S[1]};privat",
            f"{S[2]};Company owned",
            f"{S[3]};BYOD",
        ),
        [A] * 4,
        values={"ownership": ["corporate", "personal", "corporate", "personal"]},
    ),
    "ownerships in Polish and Japanese": Case(
        t("S/N;Ownership", f"{S[0]};służbowy", f"{S[1]};個人", f"{S[2]};unbekannt"),
        [A] * 3,
        values={"ownership": ["corporate", "personal", "unknown"]},
    ),
    "an ownership that nobody knows": Case(
        t("S/N;Ownership", f"{S[0]};perhaps"), [R], {"ownership_unknown"}
    ),
    "a placeholder for a model": Case(
        t("S/N;Model;Site;Asset tag", f"{S[0]};n/a;-;unbekannt"),
        [A],
        {"placeholder_blank"},
        values={"model": [None], "site": [None], "asset_tag": [None]},
    ),
    "an asset tag twice": Case(
        t("S/N;Asset tag", f"{S[0]};A-1", f"{S[1]};a-1"), [A, A], {"asset_tag_twice"}
    ),
    "a number for a model": Case(
        t("S/N;Model", f"{S[0]};0.5", f"{S[1]};TRUE"),
        [A, A],
        {"no_name"},
        values={"model": [None, None]},
    ),
}
