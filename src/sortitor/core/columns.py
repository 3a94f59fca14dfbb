"""The columns a supplier's file may have, known by meaning rather than by exact header."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping, Sequence

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.platforms import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind, Platform

#: Device fields a lot can set, in the order in which they are shown.
FIELDS = (
    "platform",
    "maker",
    "model",
    "product_code",
    "ownership",
    "order_name",
    "purchase_order",
    "supplier",
    "purchased_on",
    "warranty_until",
    "site",
    "department",
    "asset_tag",
    "name",
    "tags",
    "note",
)

IDENTIFIER_COLUMNS = tuple(kind.value for kind in IdentifierKind)
#: A device may have several of these; of the others the first header that fits counts.
_SEVERAL = ("imei", "mac")
#: What a lot's own take-out appends: read back, it says nothing.
PROBLEM = "problem"

_SYNONYMS: dict[str, tuple[str, ...]] = {
    "serial": (
        "serial",
        "serial number",
        "serial no",
        "serialno",
        "serialnumber",
        "sn",
        "s n",
        "ser no",
        "device serial",
        "seriennummer",
    ),
    "imei": ("imei", "imei number", "imei no", "imei meid", "imei nummer"),
    "meid": ("meid", "meid number", "meid hex", "meid dec"),
    "eid": ("eid", "esim eid", "esim id", "euicc id"),
    "mac": (
        "mac",
        "mac address",
        "wifi mac",
        "wi fi mac",
        "wlan mac",
        "ethernet mac",
        "lan mac",
        "network address",
        "mac adresse",
    ),
    "uuid": ("uuid", "hardware uuid", "system uuid", "guid"),
    "fingerprint": ("fingerprint", "hardware fingerprint"),
    "problem": ("problem",),
    "platform": ("platform", "os", "operating system", "system", "betriebssystem", "plattform"),
    "maker": ("maker", "manufacturer", "make", "brand", "vendor", "hersteller"),
    "model": ("model", "device model", "product", "product name", "modell"),
    "product_code": (
        "product code",
        "part number",
        "part no",
        "sku",
        "article",
        "article no",
        "artikelnummer",
    ),
    "ownership": ("ownership", "owner type", "owned by", "eigentum"),
    "order_name": ("order", "order name", "order number", "order no", "auftrag", "bestellung"),
    "purchase_order": ("purchase order", "po", "po number", "po no", "bestellnummer"),
    "supplier": ("supplier", "dealer", "reseller", "lieferant"),
    "purchased_on": (
        "purchased on",
        "purchase date",
        "date of purchase",
        "bought on",
        "invoice date",
        "kaufdatum",
    ),
    "warranty_until": (
        "warranty until",
        "warranty",
        "warranty end",
        "warranty expires",
        "garantie bis",
    ),
    "site": ("site", "location", "place", "harbour", "vessel", "standort"),
    "department": ("department", "dept", "abteilung"),
    "person": (
        "person",
        "user",
        "user name",
        "username",
        "mail",
        "email",
        "e mail",
        "assigned to",
        "benutzer",
    ),
    "asset_tag": (
        "asset tag",
        "asset",
        "asset number",
        "asset no",
        "inventory number",
        "inventarnummer",
    ),
    "name": ("name", "device name", "hostname", "host name", "computer name", "geratename"),
    "tags": ("tags", "labels"),
    "note": ("note", "notes", "comment", "remark", "remarks", "bemerkung"),
}


def plain(header: str) -> str:
    """A header reduced to its words: case, accents and punctuation gone, a trailing counter
    dropped.
    """
    text = unicodedata.normalize("NFKD", header).casefold()
    text = "".join(mark for mark in text if not unicodedata.combining(mark))
    return re.sub(r"\s*\d{0,2}$", "", " ".join(re.findall(r"\w+", text.replace("_", " "))))


_MEANING = {plain(word): column for column, words in _SYNONYMS.items() for word in (column, *words)}
COLUMNS = tuple(_SYNONYMS)


def understand(headers: Sequence[str], given: Mapping[str, str] | None = None) -> dict[str, str]:
    """Header → column for every header that is understood; `given` maps column → header and goes
    first.

    A column other than `imei` takes one header, the first that fits. Raises BadInput for a mapping
    to a header that the file does not have or to a column that Sortitor does not know.
    """
    meaning: dict[str, str] = {}
    problems = []
    for column, header in (given or {}).items():
        if column not in COLUMNS:
            problems.append(
                FieldProblem(
                    f"/columns/{column}",
                    "unknown_column",
                    f"{column!r} is not a column; known are {', '.join(COLUMNS)}.",
                )
            )
        elif header not in headers:
            problems.append(
                FieldProblem(
                    f"/columns/{column}",
                    "unknown_header",
                    f"The file has no header {header!r}; it has {', '.join(headers)}.",
                )
            )
        meaning[header] = column
    if problems:
        raise BadInput("bad_mapping", problems[0].detail, "Correct the mapping.", tuple(problems))
    for header in headers:
        column = _MEANING.get(plain(header), "")
        if (
            header not in meaning
            and column
            and (column in _SEVERAL or column not in meaning.values())
        ):
            meaning[header] = column
    return meaning


def recall(headers: Sequence[str], known: Mapping[str, str]) -> dict[str, str]:
    """What headers mean, with what a supplier's earlier file taught (header → column, "" for a
    plain detail) going first.
    """
    taught = {header: column for header, column in known.items() if header in headers}
    plainly = {
        header: column
        for header, column in understand(headers).items()
        if header not in taught and column not in taught.values()
    }
    return {**{header: column for header, column in taught.items() if column}, **plainly}


def remap(
    headers: Sequence[str], wanted: Mapping[str, str | None], now: Mapping[str, str]
) -> dict[str, str]:
    """The meaning `now` with the headers in `wanted` meaning something else; None makes a header a
    plain detail.
    """
    problems = [
        FieldProblem(
            f"/columns/{h}",
            "unknown_header",
            f"The file has no header {h!r}; it has {', '.join(headers)}.",
        )
        for h in wanted
        if h not in headers
    ]
    problems += [
        FieldProblem(
            f"/columns/{h}",
            "unknown_column",
            f"{c!r} is not a column; known are {', '.join(COLUMNS)}.",
        )
        for h, c in wanted.items()
        if c and c not in COLUMNS
    ]
    taken = [column for column in wanted.values() if column and column not in _SEVERAL]
    problems += [
        FieldProblem("/columns", "column_twice", f"Two headers cannot both be {column}.")
        for column in sorted({c for c in taken if taken.count(c) > 1})
    ]
    if problems:
        raise BadInput("bad_mapping", problems[0].detail, "Correct the mapping.", tuple(problems))
    kept = {
        header: column
        for header, column in now.items()
        if header not in wanted and column not in taken
    }
    return {**{header: column for header, column in wanted.items() if column}, **kept}


def template_headers(platform: Platform) -> list[str]:
    """Headers of a file for this platform that are understood as they stand; the identifiers that
    it has come first.
    """
    kinds = [
        kind.value
        for kind in IdentifierKind
        if kind in CATALOGUE[platform].identifiers and kind is not IdentifierKind.FINGERPRINT
    ]
    several = [f"{kind} 2" for kind in kinds if kind == "imei"]
    others = [field for field in (*FIELDS, "person") if field not in ("platform", "order_name")]
    return [word.replace("_", " ") for word in (*kinds, *several, "platform", "order", *others)]
