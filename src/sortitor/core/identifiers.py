"""Hardware identifiers: cleaning, checking and naming the damage that spreadsheets do to them.

Everything works on columns. A checked column is a frame `value: str | null, note: str | null`: a
value with a note was repaired, a note without a value says why there is none, neither means that
the cell was empty. Most cells of an honest file are plain; they are recognised by one pattern, and
only the others are looked at closely.
"""

from __future__ import annotations

import hashlib
import re
import string
import unicodedata
from collections.abc import Callable, Iterable

import polars as pl
from stdnum import imei as stdnum_imei
from stdnum import luhn as stdnum_luhn
from stdnum import meid as stdnum_meid

from sortitor.core import placeholders
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind

#: A run of one character, and signs alone.
_FILLER = (
    r"^([\W_]+|0+|"
    + "|".join(f"{mark}{{3,}}" for mark in string.ascii_uppercase + string.digits)
    + ")$"
)
_SCIENTIFIC = r"^[+-]?\d([.,]\d+)?E\+?\d{1,3}$"
_THOUSANDS = r"^\d{1,3}([,.]\d{3}){2,}$"
#: What spreadsheets show of a formula that failed, in the languages that they speak.
CELL_ERROR = (
    r"(?i)^(#(N/A|N/D|NV|NAME\?|NOMBRE\?|NOM\s?\?|NOME\?|NAZWA\?|AD\?|NAAM\?|REF!|BEZUG!|RIF!|ADR!"
    r"|¡REF!|VALUE!|WERT!|VALEUR!|¡VALOR!|VALORE!|ARG!|DEĞER!|WAARDE!|DIV/0!|DEEL/0!|DZIEL/0!"
    r"|¡DIV/0!|SAYI/0!|NUM!|ZAHL!|NOMBRE!|¡NUM!|LICZBA!|SAYI!|GETAL!|NULL!|LEEG!|BOŞ!|SPILL!|CALC!"
    r"|FIELD!|BLOCKED!|CONNECT!|GETTING_DATA|YOK)|#{3,}|ERR:\d{3})$"
)
_MONTHS = "JAN|FEB|MAR|MRZ|APR|MAY|MAI|JUN|JUL|AUG|SEP|OCT|OKT|NOV|DEC|DEZ"
_DATE = (
    r"^(\d{1,2}[./-]\d{1,2}[./-](\d{2}|\d{4})|(19|20)\d\d-\d\d-\d\d( \d\d:\d\d(:\d\d)?)?"
    rf"|\d{{1,2}}[.\- ] ?({_MONTHS})\.?([\- ]\d{{2,4}})?|({_MONTHS})[\- ]\d{{2,4}})$"
)
# Quotation marks of any script, zero-width marks, soft hyphens, byte order marks, control
# characters.
_INVISIBLE = r"[\p{Cc}\p{Cf}\p{Zl}\p{Zp}\"“”„«»‘’´`]"
#: What a plain cell of letters and digits must not be: a power of ten, a run of one character, a
#: well-known filler.
_NOT_PLAIN = (
    r"(?i)^(\d+E\d+|0{3,}|"
    + "|".join(
        [f"{mark}{{3,}}" for mark in string.ascii_uppercase + string.digits[1:]]
        + sorted(word for word in placeholders.KEYS if word.isascii() and len(word) >= 3)
    )
    + ")$"
)
#: Fillers that makers leave in their firmware instead of a number of the device's own.
_UUID_FILLERS = (
    "03000200040005000006000700080009",
    "0003000200040005000600070008000A",
    "12345678123456781234567812345678",
    "FEEFEEFEEFEEFEEFEEFEEFEEFEEFEEFE",
)
FINGERPRINT_BYTES = 8_192

Check = Callable[[pl.Series], pl.DataFrame]


def _prepared(given: pl.Series, decimal: str) -> pl.DataFrame:
    """Columns `text` (NFKC, upper case, invisible marks and harmless wrappers gone), and which
    wrappers there were.

    `decimal` is the pattern of a number to which a spreadsheet added ".0".
    """
    text = pl.col("text")
    frame = (
        given.alias("text")
        .to_frame()
        .select(text.str.normalize("NFKC").str.to_uppercase().str.strip_chars())
    )
    wrapped = text.str.contains(r'^="[^"]*"$')
    inner = (
        pl.when(wrapped)
        .then(text.str.slice(2, text.str.len_chars() - 3))
        .otherwise(text.str.strip_prefix("'"))
    )
    frame = frame.select(
        inner.str.replace_all(_INVISIBLE, "").str.strip_chars().replace("", None),
        wrapped=wrapped,
        apostrophe=text.str.starts_with("'"),
    )
    return frame.with_columns(
        decimal=text.str.contains(decimal),
        damage=_damage(text),
        clean=pl.when(text.str.contains(decimal)).then(text.str.strip_suffix(".0")).otherwise(text),
    )


def _damage(text: pl.Expr) -> pl.Expr:
    """The code of what makes the cell worthless whatever its kind, else null."""
    return (
        pl.when(text.str.contains(CELL_ERROR))
        .then(pl.lit("cell_error"))
        .when(text.str.contains(_THOUSANDS))
        .then(pl.lit("thousands_separators"))
        .when(text.str.contains(_FILLER) | bare(text).is_in(placeholders.KEYS))
        .then(pl.lit("placeholder"))
        .when(text.str.contains(_SCIENTIFIC))
        .then(pl.lit("scientific_notation"))
        .when(text.str.contains(_DATE))
        .then(pl.lit("looks_like_date"))
    )


def bare(text: pl.Expr) -> pl.Expr:
    """How placeholders are compared; see placeholders.key."""
    plain = text.str.normalize("NFKD").str.to_lowercase()
    return plain.str.replace_many(["ı", "ł", "ß"], ["i", "l", "ss"]).str.replace_all(
        r"[^\p{L}\p{N}]", ""
    )


def is_placeholder(text: pl.Expr) -> pl.Expr:
    """Whether a text says that there is nothing to say: n/a, unbekannt, ----."""
    return text.str.contains(r"^[\W_]+$") | bare(text).is_in(placeholders.KEYS)


def _repair() -> pl.Expr:
    """The code of a harmless wrapper that was taken off."""
    return (
        pl.when(pl.col("wrapped"))
        .then(pl.lit("text_formula_unwrapped"))
        .when(pl.col("apostrophe"))
        .then(pl.lit("leading_apostrophe"))
        .when(pl.col("decimal"))
        .then(pl.lit("decimal_ending"))
    )


def _judged(frame: pl.DataFrame, value: pl.Expr, fault: pl.Expr, remark: pl.Expr) -> pl.DataFrame:
    """The value where there is no fault; the damage, else the fault, else the remark, as the
    note.
    """
    return frame.select(fault=pl.coalesce("damage", fault), kept=value, remark=remark).select(
        value=pl.when(pl.col("fault").is_null()).then(pl.col("kept")),
        note=pl.coalesce("fault", pl.when(pl.col("kept").is_not_null()).then(pl.col("remark"))),
    )


def checked_in_part(
    given: pl.Series, plain: pl.Series, value: pl.Series, closely: Check
) -> pl.DataFrame:
    """`value` as it stands where `plain` holds; what `closely` says of the other cells that are not
    empty.
    """
    other = (~plain & given.is_not_null()).fill_null(False).arg_true()
    note = pl.repeat(None, given.len(), dtype=pl.String, eager=True)
    if other.len():
        found = closely(given.gather(other))
        # A scatter changes its series in place, and this one may be the caller's very cells.
        value, note = (
            value.clone().scatter(other, found["value"]),
            note.scatter(other, found["note"]),
        )
    return pl.DataFrame({"value": value, "note": note})


def check_serials(given: pl.Series) -> pl.DataFrame:
    """Serial numbers: 3–64 of `A–Z 0–9 - . / _ +` after cleaning."""
    plain = given.str.contains(r"^[A-Za-z0-9]{3,64}$") & ~given.str.contains(_NOT_PLAIN)
    return checked_in_part(given, plain, given.str.to_uppercase(), _serials_closely)


def _serials_closely(given: pl.Series) -> pl.DataFrame:
    clean = pl.col("clean").str.replace_all(r"\s", "")
    fault = (
        pl.when(~clean.str.contains(r"^[A-Z0-9\-./_+]*$"))
        .then(pl.lit("serial_characters"))
        .when(~clean.str.len_chars().is_between(3, 64))
        .then(pl.lit("serial_length"))
    )
    return _judged(_prepared(given, r"^\d{5,}\.0$"), clean, fault, _repair())


def _luhn_digit(first_14: pl.Expr) -> pl.Expr:
    """The Luhn check digit over 14 digits given as an integer (3GPP TS 23.003, annex B)."""
    digits = [first_14 // 10**place % 10 for place in range(14)]
    # Every second digit counts double, with the digits of the product added: 2·d, less 9 from 5 on.
    total = pl.sum_horizontal(*digits, *digits[::2]) - 9 * pl.sum_horizontal(
        digit > 4 for digit in digits[::2]
    ).cast(pl.Int64)
    return (10 - total % 10) % 10


def check_imeis(given: pl.Series) -> pl.DataFrame:
    """IMEIs: 15 digits with a Luhn check; 14 and 16 digits are completed (3GPP TS 23.003 §6.2)."""
    number = pl.col("number")
    digits = given.str.contains(r"^[0-9]{15}$")
    plain = pl.DataFrame(
        {"number": given.set(~digits.fill_null(False), None).cast(pl.Int64)}
    ).select((number % 10 == _luhn_digit(number // 10)) & ~number.is_in([0, 123456789012345]))
    return checked_in_part(given, plain.to_series().fill_null(False), given, _imeis_closely)


def _imeis_closely(given: pl.Series) -> pl.DataFrame:
    clean = pl.col("clean").str.replace_all(r"[\s\-./_]", "")
    frame = _prepared(given, r"^\d{13,16}\.0$").with_columns(clean, length=clean.str.len_chars())
    clean, length = pl.col("clean"), pl.col("length")
    frame = frame.with_columns(
        body=pl.when(length.is_between(14, 16)).then(
            clean.str.head(14).cast(pl.Int64, strict=False)
        )
    )
    frame = frame.with_columns(
        complete=clean.str.head(14) + _luhn_digit(pl.col("body")).cast(pl.String)
    )
    fault = (
        pl.when(~clean.str.contains(r"^[0-9]+$"))
        .then(pl.lit("imei_characters"))
        .when(length < 14)
        .then(pl.lit("digits_lost"))
        .when(length > 16)
        .then(pl.lit("imei_length"))
        .when((length == 15) & (pl.col("complete") != clean))
        .then(pl.lit("imei_check_failed"))
    )
    remark = pl.coalesce(
        pl.when(length == 14)
        .then(pl.lit("check_digit_added"))
        .when(length == 16)
        .then(pl.lit("software_version_dropped")),
        _repair(),
    )
    return _judged(frame, pl.col("complete"), fault, remark)


def _hexadecimal(given: pl.Series) -> pl.DataFrame:
    """The prepared frame with `clean` freed of blanks, hyphens, colons, points and braces."""
    frame = _prepared(given, r"^\d{13,}\.0$").with_columns(
        pl.col("clean").str.replace_all(r"[\s\-:.{}]", "").str.strip_prefix("URNUUID")
    )
    return frame.with_columns(
        damage=pl.coalesce(
            "damage",
            pl.when(pl.col("clean").str.contains(r"^(0+|F+)$")).then(pl.lit("placeholder")),
        )
    )


def check_meids(given: pl.Series) -> pl.DataFrame:
    """MEIDs: 14 hexadecimal digits, or 18 decimal ones, which are converted (3GPP2 S.R0048); a
    check digit is left off.
    """
    clean, length = pl.col("clean"), pl.col("clean").str.len_chars()
    frame = _hexadecimal(given)
    decimal = clean.str.contains(r"^\d{18}$")
    converted = (
        pl.when(decimal)
        .then(clean)
        .map_elements(
            lambda text: str(stdnum_meid.compact(text)).upper(),
            return_dtype=pl.String,
            skip_nulls=True,
        )
    )
    value = pl.when(decimal).then(converted).otherwise(clean.str.head(14))
    fault = (
        pl.when(decimal & (converted.str.len_chars() == 14))
        .then(None)
        .when(~clean.str.contains(r"^[0-9A-F]+$"))
        .then(pl.lit("meid_characters"))
        .when(~length.is_in([14, 15]))
        .then(pl.lit("meid_length"))
    )
    return _judged(
        frame, value, fault, pl.coalesce(pl.when(decimal).then(pl.lit("meid_converted")), _repair())
    )


def check_eids(given: pl.Series) -> pl.DataFrame:
    """EIDs: 32 digits whose remainder by 97 is 1 (ISO/IEC 7064 MOD 97-10, as in GSMA SGP.02
    §2.2.2).
    """
    clean = pl.col("clean")
    frame = _hexadecimal(given)
    half = [
        pl.when(clean.str.contains(r"^\d{32}$"))
        .then(clean.str.slice(place, 16))
        .cast(pl.Int64, strict=False)
        for place in (0, 16)
    ]
    remainder = (half[0] % 97 * (10**16 % 97) + half[1] % 97) % 97
    fault = (
        pl.when(~clean.str.contains(r"^\d+$"))
        .then(pl.lit("eid_characters"))
        .when(clean.str.len_chars() != 32)
        .then(pl.lit("eid_length"))
        .when(remainder != 1)
        .then(pl.lit("eid_check_failed"))
    )
    return _judged(frame, clean, fault, _repair())


def check_macs(given: pl.Series) -> pl.DataFrame:
    """EUI-48 and EUI-64 addresses; groups' and locally administered ones identify no hardware (IEEE
    802-2014 §8.2).
    """
    clean = pl.col("clean")
    second = clean.str.slice(1, 1)
    fault = (
        pl.when(~clean.str.contains(r"^[0-9A-F]+$"))
        .then(pl.lit("mac_characters"))
        .when(~clean.str.len_chars().is_in([12, 16]))
        .then(pl.lit("mac_length"))
        .when(second.is_in(list("13579BDF")))
        .then(pl.lit("mac_of_group"))
        .when(second.is_in(list("26AE")))
        .then(pl.lit("mac_randomised"))
    )
    return _judged(
        _hexadecimal(given),
        clean.str.replace_all(r"(..)", "$1:").str.strip_suffix(":"),
        fault,
        _repair(),
    )


def check_uuids(given: pl.Series) -> pl.DataFrame:
    """UUIDs (RFC 9562 §4), in lower case with hyphens; all zeros, all ones and makers' fillers are
    refused.
    """
    clean = pl.col("clean")
    fault = (
        pl.when(~clean.str.contains(r"^[0-9A-F]{32}$"))
        .then(pl.lit("uuid_form"))
        .when(clean.is_in(_UUID_FILLERS))
        .then(pl.lit("placeholder"))
    )
    dashed = clean.str.to_lowercase().str.replace(
        r"^(.{8})(.{4})(.{4})(.{4})(.{12})$", "$1-$2-$3-$4-$5"
    )
    return _judged(_hexadecimal(given), dashed, fault, _repair())


def check_fingerprints(given: pl.Series) -> pl.DataFrame:
    """Opaque base64 of at most 8 KiB; looked up by its SHA-256, so that is its value."""
    text = given.str.replace_all(r"\s", "").replace("", None)
    fault = (
        pl.DataFrame({"text": text})
        .select(
            pl.when(pl.col("text").str.len_bytes() > FINGERPRINT_BYTES)
            .then(pl.lit("fingerprint_length"))
            .when(~pl.col("text").str.contains(r"^[A-Za-z0-9+/_-]{16,}={0,2}$"))
            .then(pl.lit("fingerprint_form"))
        )
        .to_series()
    )
    sound = text.set(fault.is_not_null(), None)
    value = sound.map_elements(
        lambda found: hashlib.sha256(found.encode()).hexdigest(),
        return_dtype=pl.String,
        skip_nulls=True,
    )
    return pl.DataFrame({"value": value, "note": fault})


CHECKS: dict[IdentifierKind, Check] = {
    IdentifierKind.SERIAL: check_serials,
    IdentifierKind.IMEI: check_imeis,
    IdentifierKind.MEID: check_meids,
    IdentifierKind.EID: check_eids,
    IdentifierKind.MAC: check_macs,
    IdentifierKind.UUID: check_uuids,
    IdentifierKind.FINGERPRINT: check_fingerprints,
}


def check_one(kind: IdentifierKind, given: str) -> tuple[str | None, str | None]:
    """One identifier: `(value, note code)`, by the same rules as a column of them."""
    frame = CHECKS[kind](pl.Series([given], dtype=pl.String))
    return frame["value"][0], frame["note"][0]


_UNSEEN_KINDS = ("Cf", "Zl", "Zp")
_SERIAL = re.compile(r"[A-Z0-9\-./_+]{3,64}")
_UNSEEN_OR_QUOTED = re.compile(r"[\x00-\x1f\x7f-\x9f\"“”„«»‘’´`]")
_WORTHLESS = re.compile("|".join((CELL_ERROR[4:], _FILLER, _SCIENTIFIC, _DATE, _THOUSANDS)), re.I)


def serial_of(text: str) -> str | None:
    """A serial number's value, or None: `check_one` for single texts, a hundred times quicker."""
    plain = text.upper().strip().removeprefix("'")
    if not text.isascii():
        plain = unicodedata.normalize("NFKC", text).upper().strip().removeprefix("'")
        plain = "".join(one for one in plain if unicodedata.category(one) not in _UNSEEN_KINDS)
    plain = _UNSEEN_OR_QUOTED.sub("", plain).strip()
    if _WORTHLESS.search(plain) or placeholders.key(plain) in placeholders.KEYS:
        return None
    bare = re.sub(r"\s", "", re.sub(r"^(\d{5,})\.0$", r"\1", plain))
    return bare if _SERIAL.fullmatch(bare) else None


def imei_of(text: str) -> str | None:
    """An IMEI's value, or None: `check_one` for single texts, a hundred times quicker."""
    plain = unicodedata.normalize("NFKC", text).strip().removeprefix("'")
    digits = re.sub(r"[\s\-./_]", "", re.sub(r"^(\d{13,16})\.0$", r"\1", plain))
    if not re.fullmatch(r"[0-9]{14,16}", digits) or _WORTHLESS.search(plain.upper()):
        return None
    body = digits[:14]
    complete = body + str(stdnum_luhn.calc_check_digit(body))
    return complete if len(digits) != 15 or complete == digits else None


#: Whatever has fewer letters and digits can only be a serial number: a MAC address has the fewest.
_OTHER_KINDS_FROM = 12


def normal_forms(texts: Iterable[str]) -> dict[str, set[str]]:
    """Text → every form, of any kind, that it may be kept in; long ones are checked as a column."""
    forms: dict[str, set[str]] = {text: set() for text in texts}
    long = [text for text in forms if not _is_short(text)]
    for text in forms.keys() - set(long):
        forms[text] = {value for value in [serial_of(text)] if value is not None}
    if not long:
        return forms
    given = pl.Series(long, dtype=pl.String)
    for check in CHECKS.values():
        for text, value in zip(long, check(given)["value"], strict=True):
            if value is not None:
                forms[text].add(value)
    return forms


def _is_short(text: str) -> bool:
    return text.isascii() and sum(map(str.isalnum, text)) < _OTHER_KINDS_FROM


def explain(note: str) -> str:
    """The note's meaning and remedy in one line."""
    kind = CATALOGUE[note]
    return f"{kind.title}. {kind.remedy}"


_SHAPES = (
    (
        IdentifierKind.UUID,
        re.compile(r"\{?[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\}?|urn:uuid:.*"),
    ),
    (IdentifierKind.MAC, re.compile(r"([0-9a-fA-F]{2}[:-]){5}([0-9a-fA-F]{2}[:-]?){1,3}")),
    (IdentifierKind.EID, re.compile(r"[0-9]{32}")),
    (IdentifierKind.MEID, re.compile(r"[A-Fa-f][0-9A-Fa-f]{13}|[0-9]{18}")),
)


def kind_of(token: str) -> IdentifierKind:
    """What a pasted token most likely is, by its shape and check digits; a serial number where
    nothing else fits.
    """
    for kind, shape in _SHAPES:
        if shape.fullmatch(token) and check_one(kind, token)[0]:
            return kind
    digits = re.sub(r"[\s\-./_]", "", token)
    if (
        digits.isascii()
        and digits.isdigit()
        and (len(digits) in (14, 16) or (len(digits) == 15 and stdnum_imei.is_valid(digits)))
    ):
        return IdentifierKind.IMEI
    return IdentifierKind.SERIAL
