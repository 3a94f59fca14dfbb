"""Every cell of a file checked, without knowing the fleet."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import polars as pl

from sortitor.core import columns, identifiers, platforms
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.lots.shapes import KEYS_SCHEMA, NOTES_SCHEMA, Prepared
from sortitor.core.manifests import EXTRA_CELLS, Manifest
from sortitor.core.naming.templates import ALLOWED
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind, Ownership

_FORMULA = r"^([=@]|[+\-].*[(|!])"
#: Printable ASCII that neither begins like a formula nor has blanks at its ends: nothing to clean,
#: nothing to doubt.
_PLAIN_TEXT = r"^[!-*,.-<>?A-~]([ -~]{0,498}[!-~])?$"


def maker_key(maker: str) -> str:
    """What two spellings of a maker have in common."""
    return maker.strip().lower()


def check_defaults(defaults: Mapping[str, str]) -> dict[str, str]:
    """The lot's defaults in their canonical form. Raises BadInput naming each bad one."""
    allowed = (*(field for field in columns.FIELDS if field != "name"), "person")
    unknown = [name for name in defaults if name not in allowed]
    if unknown:
        raise BadInput(
            "unknown_default",
            f"{unknown[0]!r} cannot be a default; {', '.join(allowed)} can.",
            "Correct the defaults.",
        )
    checked = {
        name: _check_field(name, pl.Series([value], dtype=pl.String))
        for name, value in defaults.items()
    }
    problems = tuple(
        FieldProblem(f"/defaults/{name}", str(found["note"][0]), CATALOGUE[found["note"][0]].remedy)
        for name, found in checked.items()
        if found["note"][0]
    )
    if problems:
        detail = (
            f"The default {problems[0].pointer.rsplit('/', 1)[1]} is"
            f" {CATALOGUE[problems[0].code].title}."
        )
        raise BadInput("bad_default", detail, problems[0].detail, problems)
    return {name: str(found["value"][0]) for name, found in checked.items() if found["value"][0]}


def prepare(
    manifest: Manifest, meaning: Mapping[str, str], defaults: Mapping[str, str]
) -> Prepared:
    """Check every cell. `meaning` maps header → column; `defaults` fill blank cells (see
    check_defaults).
    """
    notes = [pl.DataFrame(schema=NOTES_SCHEMA)]
    values = {"row": manifest.numbers}
    for field in (*columns.FIELDS, "person"):
        default = defaults.get(field)
        header = next((header for header, column in meaning.items() if column == field), None)
        if header is None:
            values[field] = pl.repeat(default, manifest.numbers.len(), dtype=pl.String, eager=True)
            continue
        checked = _check_field(field, manifest.cells[header])
        notes.append(note_on(manifest.numbers, checked["note"], header, manifest.cells[header]))
        values[field] = (
            checked["value"].fill_null(default) if default is not None else checked["value"]
        )
    if EXTRA_CELLS in manifest.cells.columns:
        extra = manifest.cells[EXTRA_CELLS]
        code = pl.select(pl.when(extra.is_not_null()).then(pl.lit("extra_cells"))).to_series()
        notes.append(note_on(manifest.numbers, code, EXTRA_CELLS, extra))
    rows = pl.DataFrame(values)
    keys, key_notes = _keys(manifest, meaning, rows)
    unknown = [
        header for header in manifest.headers if header not in meaning and header != EXTRA_CELLS
    ]
    rows = rows.with_columns(
        details=_json(manifest.cells.select(unknown)) if unknown else pl.lit("{}")
    )
    return Prepared(
        rows,
        keys,
        pl.concat([*notes, *key_notes]),
        {column: header for header, column in reversed(list(meaning.items()))},
    )


def _json(frame: pl.DataFrame) -> pl.Series:
    return frame.to_struct("json").struct.json_encode()


def note_on(
    numbers: pl.Series, codes: pl.Series | str, column: str, given: pl.Series | None = None
) -> pl.DataFrame:
    """Notes for the rows that have a code; `given` is cut to one line of 200 characters."""
    frame = pl.DataFrame({"row": numbers}).with_columns(
        code=pl.lit(codes) if isinstance(codes, str) else codes,
        given=pl.lit(None, dtype=pl.String) if given is None else given,
    )
    frame = frame.filter(pl.col("code").is_not_null()).with_columns(
        pl.lit(column).alias("column"), one_line("given", 200)
    )
    return frame.select(*NOTES_SCHEMA).cast(NOTES_SCHEMA)  # type: ignore[arg-type]


def one_line(column: str, most: int) -> pl.Expr:
    """The text without line ends and other control characters, at most so many characters of it."""
    return pl.col(column).cast(pl.String).str.replace_all(r"\p{Cc}+", " ").str.head(most)


def _check_field(field: str, cells: pl.Series) -> pl.DataFrame:
    """Columns `value` and `note` for one device field."""
    if field == "name":
        return identifiers.checked_in_part(
            cells, cells.str.contains(ALLOWED), cells, partial(_field_closely, field)
        )
    if field in ("platform", "ownership", "purchased_on", "warranty_until", "tags"):
        # Few different values stand in many cells: each is looked at once.
        return _each_once(cells, partial(_field_closely, field))
    return identifiers.checked_in_part(
        cells, cells.str.contains(_PLAIN_TEXT), cells, partial(_field_closely, field)
    )


def _each_once(cells: pl.Series, closely: identifiers.Check) -> pl.DataFrame:
    different = cells.drop_nulls().unique()
    found = closely(different).with_columns(cell=different)
    return (
        cells.alias("cell")
        .to_frame()
        .join(found, on="cell", how="left", maintain_order="left")
        .select("value", "note")
    )


def _field_closely(field: str, cells: pl.Series) -> pl.DataFrame:
    text = (
        cells.str.normalize("NFC")
        .str.replace_all(r"[\p{Cc}\p{Zl}\p{Zp}]+", " ")
        .str.strip_chars()
        .replace("", None)
    )
    frame = pl.DataFrame({"text": text})
    value, code = _meaning_of(field)
    fault = (
        pl.when(pl.col("text").str.contains(_FORMULA))
        .then(pl.lit("formula"))
        .when(pl.col("text").str.len_chars() > 500)
        .then(pl.lit("text_too_long"))
    )
    checked = frame.select(fault=fault, value=value, text="text")
    if code:
        missed = pl.col("value").is_null() & pl.col("text").is_not_null()
        checked = checked.with_columns(
            fault=pl.coalesce("fault", pl.when(missed).then(pl.lit(code)))
        )
    return checked.select(value=pl.when(pl.col("fault").is_null()).then("value"), note="fault")


def _meaning_of(field: str) -> tuple[pl.Expr, str]:
    """How a field's cleaned text is understood, and the code of a text that cannot be."""
    text = pl.col("text")
    if field == "platform":
        return (
            text.str.to_lowercase().replace_strict(platforms.SYNONYMS, default=None),
            "platform_unknown",
        )
    if field == "ownership":
        return (
            text.str.to_lowercase().replace_strict(
                {o.value: o.value for o in Ownership}, default=None
            ),
            "ownership_unknown",
        )
    if field == "name":
        return pl.when(text.str.contains(ALLOWED)).then(text), "name_characters"
    if field in ("purchased_on", "warranty_until"):
        day = text.str.head(10)
        dates = (
            day.str.to_date(form, strict=False) for form in ("%Y-%m-%d", "%d.%m.%Y", "%Y/%m/%d")
        )
        return pl.coalesce(*dates).dt.to_string("%Y-%m-%d"), "date_unreadable"
    if field == "tags":
        return (
            text.str.split(";")
            .list.eval(pl.element().str.strip_chars())
            .list.unique(maintain_order=True)
            .list.join(";"),
            "",
        )
    return text, ""


def _keys(
    manifest: Manifest, meaning: Mapping[str, str], rows: pl.DataFrame
) -> tuple[pl.DataFrame, list[pl.DataFrame]]:
    """The valid identifiers in long form, and the notes on the others."""
    found, notes = [pl.DataFrame(schema=KEYS_SCHEMA)], []
    understood = [
        (header, IdentifierKind(column))
        for header, column in meaning.items()
        if column in columns.IDENTIFIER_COLUMNS
    ]
    makers = rows["maker"].str.to_lowercase().fill_null("")
    damaged = pl.repeat(False, rows.height, dtype=pl.Boolean, eager=True)
    having = damaged
    for header, kind in understood:
        given = manifest.cells[header]
        checked = identifiers.CHECKS[kind](given)
        value, note = checked["value"], checked["note"]
        damaged = damaged | (note.is_not_null() & value.is_null())
        notes.append(note_on(manifest.numbers, note, header, given))
        useless = _useless(kind, rows["platform"]) & value.is_not_null()
        if useless.any():
            notes.append(
                note_on(
                    manifest.numbers.filter(useless),
                    "identifier_not_used",
                    header,
                    given.filter(useless),
                )
            )
            value = value.set(useless, None)
        having = having | value.is_not_null()
        maker = makers if kind is IdentifierKind.SERIAL else pl.lit("")
        key = pl.DataFrame({"row": manifest.numbers}).with_columns(
            kind=pl.lit(kind.value), value=value, maker=maker, given=given
        )
        found.append(key.filter(pl.col("value").is_not_null()).select(*KEYS_SCHEMA))
    keys = pl.concat(found)
    if len({kind for _, kind in understood}) < len(understood):
        keys = keys.unique(["row", "kind", "value"], keep="first", maintain_order=True)
    given, odd = keys["given"], keys["given"].str.contains(r"\p{Cc}").fill_null(False)
    keys = keys.with_columns(
        given=identifiers.checked_in_part(given, ~odd, given, _one_line_of)["value"]
    )
    empty = manifest.numbers.filter(~having & ~damaged)
    notes.append(note_on(empty, "nothing_valid", ""))
    return keys, notes


def _one_line_of(given: pl.Series) -> pl.DataFrame:
    return pl.DataFrame({"text": given}).select(
        value=one_line("text", identifiers.FINGERPRINT_BYTES), note=pl.lit(None, dtype=pl.String)
    )


def _useless(kind: IdentifierKind, platform: pl.Series) -> pl.Series:
    """Whether the row's platform has no such identifier."""
    without = [p.value for p, facts in platforms.CATALOGUE.items() if kind not in facts.identifiers]
    return platform.is_in(without).fill_null(False)
