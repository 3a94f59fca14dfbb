"""Every cell of a file checked, without knowing the fleet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from datetime import date

import polars as pl

from sortitor.core import columns, dates, identifiers, platforms
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.lots.fields import DATES, check_field, each_once
from sortitor.core.lots.lines import no_rows
from sortitor.core.lots.manner import Manner
from sortitor.core.lots.numbers import NO_NUMBER, read_numbers
from sortitor.core.lots.shapes import KEYS_SCHEMA, NOTES_SCHEMA, Prepared
from sortitor.core.lots.spelling import spelled, spellings
from sortitor.core.manifests import EXTRA_CELLS, Manifest
from sortitor.core.manifests.shape import Remark
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import IdentifierKind, Remedy

#: Kinds whose numbers prove themselves by a check digit or a form that nothing else has.
_PROVEN = ("imei", "eid", "mac", "uuid")


def maker_key(maker: str) -> str:
    """What two spellings of a maker have in common."""
    return maker.strip().lower()


def check_defaults(defaults: Mapping[str, str], today: date) -> dict[str, str]:
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
        name: _check_default(name, pl.Series([value], dtype=pl.String), today)
        for name, value in defaults.items()
    }
    problems = tuple(
        FieldProblem(f"/defaults/{name}", str(found["note"][0]), CATALOGUE[found["note"][0]].remedy)
        for name, found in checked.items()
        if found["note"][0] and found["value"][0] is None
    )
    if problems:
        detail = (
            f"The default {problems[0].pointer.rsplit('/', 1)[1]} is"
            f" {CATALOGUE[problems[0].code].title}."
        )
        raise BadInput("bad_default", detail, problems[0].detail, problems)
    return {name: str(found["value"][0]) for name, found in checked.items() if found["value"][0]}


def _check_default(name: str, cells: pl.Series, today: date) -> pl.DataFrame:
    if name in DATES:
        return dates.read_dates(cells, today, ends=name == "warranty_until")[0]
    return check_field(name, cells)


def prepare(
    manifest: Manifest,
    meaning: Mapping[str, str],
    defaults: Mapping[str, str],
    today: date,
    manner: Manner = Manner(),
    choices: pl.DataFrame | None = None,
) -> Prepared:
    """Check every cell. `meaning` maps header → column; `defaults` fill blank cells (see
    check_defaults).

    today:   no date may lie far beyond it
    manner:  what a person has said about how such files are to be read
    choices: `row, remedy`; a row that is to be taken is a row, and its numbers are not doubted
    """
    taken = _taken(manifest.numbers, choices)
    notes = [pl.DataFrame(schema=NOTES_SCHEMA)]
    by_column = {column: header for header, column in reversed(list(meaning.items()))}
    found_dates, orders, remarks = _dates(manifest, by_column, manner, today, taken)
    values = {"row": manifest.numbers}
    for field in (*columns.FIELDS, "person"):
        default = defaults.get(field)
        header = by_column.get(field)
        if header is None:
            values[field] = pl.repeat(default, manifest.numbers.len(), dtype=pl.String, eager=True)
            continue
        cells = manifest.cells[header]
        checked = found_dates[field] if field in DATES else check_field(field, cells)
        value, note = checked["value"], checked["note"]
        if field == "maker":
            value, note, found = _one_spelling(value, note, header, manner)
            remarks += found
        if field in ("platform", "ownership"):
            remarks += _understood(cells, value, header)
        notes.append(note_on(manifest.numbers, note, header, cells))
        values[field] = value.fill_null(default) if default is not None else value
    notes += _extra_cells(manifest)
    rows = pl.DataFrame(values)
    keys, key_notes, sound = _keys(manifest, meaning, rows, manner, taken)
    notes += key_notes
    unknown = [
        header for header in manifest.headers if header not in meaning and header != EXTRA_CELLS
    ]
    notes += _errors_in_details(manifest, unknown)
    rows = rows.with_columns(
        details=_json(manifest.cells.select(unknown)) if unknown else pl.lit("{}")
    )
    notes += _of_the_file(manifest)
    lines = _lines(manifest, meaning, keys, sound, taken)
    prepared = Prepared(rows, keys, pl.concat(notes), by_column, tuple(remarks), orders)
    return _without_lines(prepared, lines)


def _taken(numbers: pl.Series, choices: pl.DataFrame | None) -> pl.Series:
    """Which rows a person has said to take as they are."""
    if choices is None or choices.height == 0:
        return pl.repeat(False, numbers.len(), dtype=pl.Boolean, eager=True)
    chosen = choices.filter(pl.col("remedy") == Remedy.TAKE.value)["row"]
    return numbers.is_in(chosen.implode())


def _dates(
    manifest: Manifest,
    by_column: Mapping[str, str],
    manner: Manner,
    today: date,
    taken: pl.Series,
) -> tuple[dict[str, pl.DataFrame], dict[str, str], list[Remark]]:
    """The columns of dates, read together: what one proves about the order of day and month holds
    for the other, too.
    """
    headers = {field: by_column[field] for field in DATES if field in by_column}
    first = {
        field: _read_dates(manifest.cells[header], today, field, manner.dates.get(header))
        for field, header in headers.items()
    }
    proven = next((order for _, order in first.values() if order), None)
    found: dict[str, pl.DataFrame] = {}
    orders: dict[str, str] = {}
    remarks: list[Remark] = []
    for field, header in headers.items():
        checked, order = first[field]
        if order is None and manner.dates.get(header) is None and proven is not None:
            checked, _ = _read_dates(manifest.cells[header], today, field, proven)
        unlikely = (checked["note"] == "date_unlikely").fill_null(False) & taken
        if unlikely.any():
            checked = _as_they_stand(manifest.cells[header], checked, unlikely, today)
        found[field] = checked
        ordered = manifest.cells[header].filter(
            (checked["note"] == "date_by_order").fill_null(False)
        )
        if ordered.len():
            known = order or manner.dates.get(header) or proven
            orders[header] = str(known)
            remarks.append(Remark("date_by_order", header, f"{ordered[0]}: {known} first"))
        found[field] = checked.with_columns(note=pl.col("note").replace("date_by_order", None))
        open_ones = manifest.cells[header].filter(
            (checked["note"] == "date_order_open").fill_null(False)
        )
        if open_ones.len():
            remarks.append(Remark("date_order_open", header, open_ones[0]))
    return found, orders, remarks


def _read_dates(
    cells: pl.Series, today: date, field: str, order: dates.Order | None
) -> tuple[pl.DataFrame, dates.Order | None]:
    # Few different dates stand in many cells: each is looked at once.
    different = cells.drop_nulls().unique()
    blank = different.alias("text").to_frame().select(_blank_date()).to_series()
    checked, proven = dates.read_dates(
        different.set(blank.is_not_null(), None), today, ends=field == "warranty_until", order=order
    )
    found = checked.with_columns(
        note=pl.coalesce("note", pl.lit(blank.replace("", None))), cell=different
    )
    every = cells.alias("cell").to_frame().join(found, on="cell", how="left", maintain_order="left")
    return every.select("value", "note"), proven


def _blank_date() -> pl.Expr:
    """The note on a cell that says no date; "" where it is empty; else null."""
    text = pl.col("text")
    return (
        pl.when(text.str.contains(identifiers.CELL_ERROR))
        .then(pl.lit("cell_error_blank"))
        .when(identifiers.is_placeholder(text))
        .then(pl.lit("placeholder_blank"))
        .when(~text.str.contains(r"\S"))
        .then(pl.lit(""))
    )


def _as_they_stand(
    cells: pl.Series, checked: pl.DataFrame, wanted: pl.Series, today: date
) -> pl.DataFrame:
    """Unlikely dates that a person takes all the same."""

    def closely(given: pl.Series) -> pl.DataFrame:
        found = [dates.read_date(text, today).by("day") for text in given]
        iso = [day.isoformat() if day else None for day in found]
        return pl.DataFrame(
            {"value": iso, "note": [None] * len(iso)},
            schema={"value": pl.String, "note": pl.String},
        )

    stood = each_once(cells.set(~wanted, None), closely)
    return checked.with_columns(
        value=pl.when(wanted).then(stood["value"]).otherwise("value"),
        note=pl.when(wanted).then(stood["note"]).otherwise("note"),
    )


def _one_spelling(
    value: pl.Series, note: pl.Series, header: str, manner: Manner
) -> tuple[pl.Series, pl.Series, list[Remark]]:
    counts = value.drop_nulls().value_counts(sort=True)
    if counts.height > _MAKERS:
        return value, note, []
    same, near = spellings(
        counts.to_series(0).to_list(), manner.makers, manner.spellings.get("maker", {})
    )
    remarks = [Remark("maker_spelled", header, f"{one} → {other}") for one, other in same.items()]
    if near:
        doubted = value.is_in(list(near)) & note.is_null()
        note = note.set(doubted, "maker_near")
        remarks += [Remark("maker_near", header, f"{one} → {other}") for one, other in near.items()]
    return spelled(value, same), note, remarks


#: A column with more different makers than this is something else.
_MAKERS = 500


def _understood(cells: pl.Series, value: pl.Series, header: str) -> list[Remark]:
    """What everyday words were taken for."""
    pairs = pl.DataFrame({"given": cells, "value": value}).drop_nulls().unique(maintain_order=True)
    other = pairs.filter(pl.col("given").str.to_lowercase() != pl.col("value")).head(8)
    words = ", ".join(f"{given} → {kept}" for given, kept in other.rows())
    return [Remark("words_understood", header, words)] if words else []


def _extra_cells(manifest: Manifest) -> list[pl.DataFrame]:
    if EXTRA_CELLS not in manifest.cells.columns:
        return []
    extra = manifest.cells[EXTRA_CELLS]
    code = pl.select(pl.when(extra.is_not_null()).then(pl.lit("extra_cells"))).to_series()
    return [note_on(manifest.numbers, code, EXTRA_CELLS, extra)]


def _errors_in_details(manifest: Manifest, unknown: list[str]) -> list[pl.DataFrame]:
    """An error is said in every column, also in those that are only kept."""
    notes = []
    for header in unknown:
        cells = manifest.cells[header]
        if cells.str.starts_with("#").any() or cells.str.starts_with("Err:").any():
            wrong = cells.str.contains(identifiers.CELL_ERROR).fill_null(False)
            notes.append(
                note_on(
                    manifest.numbers.filter(wrong), "cell_error_blank", header, cells.filter(wrong)
                )
            )
    return notes


def _of_the_file(manifest: Manifest) -> list[pl.DataFrame]:
    """What the reader of the file had to say of single rows."""
    notes = []
    for remark in manifest.remarks:
        for first, last in remark.rows:
            rows = manifest.numbers.filter(manifest.numbers.is_between(first, last))
            given = pl.repeat(remark.given, rows.len(), dtype=pl.String, eager=True)
            notes.append(note_on(rows, remark.code, remark.column, given))
    return notes


def _lines(
    manifest: Manifest,
    meaning: Mapping[str, str],
    keys: pl.DataFrame,
    sound: pl.Series,
    taken: pl.Series,
) -> pl.DataFrame:
    numbers = manifest.numbers
    proving = keys.filter(pl.col("kind").is_in(_PROVEN))["row"].unique()
    proven = numbers.is_in(proving.implode())
    serials = keys.filter(pl.col("kind") == IdentifierKind.SERIAL.value)
    lengths = (
        numbers.alias("row")
        .to_frame()
        .join(
            serials.group_by("row").agg(n=pl.col("value").str.len_chars().max()),
            on="row",
            how="left",
            maintain_order="left",
        )["n"]
    )
    found = no_rows(manifest.cells, numbers, meaning, proven, sound, lengths)
    return found.filter(~pl.col("row").is_in(numbers.filter(taken).implode()))


def _without_lines(prepared: Prepared, lines: pl.DataFrame) -> Prepared:
    """Lines that are no rows have no numbers and no other note."""
    if lines.height == 0:
        return prepared
    gone = pl.col("row").is_in(lines["row"].implode())
    notes = [
        prepared.notes.filter(~gone),
        *(
            note_on(part["row"], str(code), "", part["given"])
            for (code,), part in lines.group_by("code", maintain_order=True)
        ),
    ]
    return replace(prepared, keys=prepared.keys.filter(~gone), notes=pl.concat(notes))


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


def _keys(
    manifest: Manifest,
    meaning: Mapping[str, str],
    rows: pl.DataFrame,
    manner: Manner,
    taken: pl.Series,
) -> tuple[pl.DataFrame, list[pl.DataFrame], pl.Series]:
    """The valid identifiers in long form, the notes on the others, and which rows have one."""
    found, notes, columns_read = [pl.DataFrame(schema=KEYS_SCHEMA)], [], []
    nobody = pl.repeat(False, rows.height, dtype=pl.Boolean, eager=True)
    damaged, having = nobody, nobody
    kinds: list[IdentifierKind] = []
    for header, column in meaning.items():
        if column not in columns.IDENTIFIER_COLUMNS:
            continue
        kind, given = IdentifierKind(column), manifest.cells[header]
        trusted = taken | (header in manner.trusted) if manner.trusted or taken.any() else None
        read = read_numbers(kind, given, trusted)
        checked, other = _as_other_kind(kind, given, read.checked)
        value, note = checked["value"], checked["note"]
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
        having = having | value.is_not_null() | other.is_not_null()
        kinds.append(kind)
        columns_read.append((header, given, value, note))
        found.append(_long(manifest.numbers, kind, value, given, rows))
        if read.more.height:
            kinds.append(kind)
            more = read.more.filter(~pl.col("place").is_in(useless.arg_true().implode()))
            places = more["place"]
            found.append(
                _long(
                    manifest.numbers.gather(places),
                    kind,
                    more["value"],
                    given.gather(places),
                    rows[places],
                )
            )
        if other.null_count() < other.len():
            kinds.append(IdentifierKind.MEID)
            found.append(_long(manifest.numbers, IdentifierKind.MEID, other, given, rows))
    for header, given, value, note in columns_read:
        lacking = note.is_in(list(NO_NUMBER)).fill_null(False) & value.is_null()
        spared = lacking & having
        if spared.any():
            note = note.set(spared, "no_number")
        damaged = damaged | (note.is_not_null() & value.is_null() & ~spared)
        notes.append(note_on(manifest.numbers, note, header, given))
    keys = pl.concat(found)
    if len(keys) and any(count > 1 for count in Counter(kinds).values()):
        keys = keys.unique(["row", "kind", "value"], keep="first", maintain_order=True)
    given, odd = keys["given"], keys["given"].str.contains(r"\p{Cc}").fill_null(False)
    keys = keys.with_columns(
        given=identifiers.checked_in_part(given, ~odd, given, _one_line_of)["value"]
    )
    notes.append(note_on(manifest.numbers.filter(~having & ~damaged), "nothing_valid", ""))
    return keys, notes, having


def _long(
    numbers: pl.Series, kind: IdentifierKind, value: pl.Series, given: pl.Series, rows: pl.DataFrame
) -> pl.DataFrame:
    is_serial = kind is IdentifierKind.SERIAL
    maker = rows["maker"].str.to_lowercase().fill_null("") if is_serial else pl.lit("")
    frame = pl.DataFrame({"row": numbers}).with_columns(
        kind=pl.lit(kind.value), value=value, maker=maker, given=given
    )
    return frame.filter(pl.col("value").is_not_null()).select(*KEYS_SCHEMA)


def _as_other_kind(
    kind: IdentifierKind, given: pl.Series, checked: pl.DataFrame
) -> tuple[pl.DataFrame, pl.Series]:
    """A column called IMEI/MEID has both: what is no IMEI but a MEID is taken for one."""
    other = pl.repeat(None, given.len(), dtype=pl.String, eager=True)
    if kind is not IdentifierKind.IMEI:
        return checked, other
    failed = (checked["note"] == "imei_characters").fill_null(False).arg_true()
    if not failed.len():
        return checked, other
    meids = identifiers.check_meids(given.gather(failed))["value"]
    sound = meids.is_not_null()
    places = failed.filter(sound)
    if not places.len():
        return checked, other
    note = checked["note"].scatter(places, "read_as_meid")
    return checked.with_columns(note=note), other.scatter(places, meids.filter(sound))


def _one_line_of(given: pl.Series) -> pl.DataFrame:
    return pl.DataFrame({"text": given}).select(
        value=one_line("text", identifiers.FINGERPRINT_BYTES), note=pl.lit(None, dtype=pl.String)
    )


def _useless(kind: IdentifierKind, platform: pl.Series) -> pl.Series:
    """Whether the row's platform has no such identifier."""
    without = [p.value for p, facts in platforms.CATALOGUE.items() if kind not in facts.identifiers]
    return platform.is_in(without).fill_null(False)
