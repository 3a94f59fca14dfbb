"""Lines of a file that are no rows: headers again, titles, totals, page and sign-off lines, hints,
packing units, another table.

A line that carries a number which proves itself (an IMEI with its check digit) is always a row.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl

from sortitor.core import identifiers
from sortitor.core.columns import IDENTIFIER_COLUMNS, meanings
from sortitor.core.placeholders import key

_TOTAL = (
    r"(?i)^\W*(grand |sub|zwischen|gesamt)?(totals?|total|summe|gesamt|somme|totale|totaal|suma"
    r"|razem"
    r"|toplam|celkem|sum|quantity|anzahl|menge|stückzahl|nombre|cantidad|quantità|ilość|adet|aantal"
    r"|count|合計|小計|総計|数量|المجموع|الإجمالي|sous-total|subtotal|zwischensumme|gesamtsumme"
    r"|gesamtmenge|gesamtanzahl|units|pieces|stück|devices|geräte)(\s*[:=(#]|\s+[\d(:=]|\s*\d|\W*$"
    r"|\s+(of|units|devices|items|quantity|geräte|stück|pièces|unidades|pezzi|sztuk|général|general"
    r"|generale|ogółem|number|qty))"
)
_PAGE = (
    r"(?i)^\W*(page|seite|blatt|página|pagina|strona|sayfa|sheet|side|s\.|p\.|ページ|頁|صفحة)\W{0,3}\d+"
    r"(\W*(of|von|/|sur|de|di|z|van|out of|\/|من|-)?\W*\d*)?\W*$|^\W*\d+\s*/\s*\d+\s*ページ"
)
_PACKING = (
    r"(?i)^\W*(master\s?|outer\s?|inner\s?|export\s?)?(carton|cartons|pallet|palette|karton"
    r"|kiste|colis|caja"
    r"|cajas|palet|palé|pudełko|paleta|koli|kutu|doos|pallets|collo|scatola|bancale|box|parcel"
    r"|package"
    r"|packstück|gebinde|crate|container|sscc|umkarton|カートン|パレット|箱|梱包|كرتون|طبلية|صندوق)"
    r"\W{0,4}((no|nr|n°|id|number|nummer|code)\W{0,3})?[\w()/-]*\d+\b|^\W*\(?00\)?\s?\d{18}\W*$"
    r"|^\W*sscc\b"
)
_SIGN_OFF = (
    r"(?i)^\W*(signature|signed|sign(ed)? (by|for)|date and signature|received( by)?|checked by"
    r"|prepared by"
    r"|approved by|delivered by|kind regards|best regards|regards|yours|sincerely|thank you|thanks"
    r"|unterschrift|datum(,| und)? unterschrift|erhalten|geprüft|erstellt (am|von)|gedruckt|stand:"
    r"|mit freundlichen grüßen|mfg|vielen dank|ende der liste|listenende|ende\W*$|end\W*$"
    r"|end of (list|report|file|data|document)"
    r"|printed|created|generated|exported|export(ed)? (on|by)|report (date|generated)|confidential"
    r"|cordialement|fin (de la liste|du document)|imprimé|firma|firmado|recibido|atentamente"
    r"|fin de (la )?lista"
    r"|cordiali saluti|distinti saluti|fine (lista|elenco)|podpis|z poważaniem|koniec( listy)?"
    r"|wygenerowano"
    r"|imza|saygılarımızla|liste sonu|handtekening|met vriendelijke groet|einde( lijst)?|以上|署名"
    r"|押印|توقيع|النهاية"
    r"|footnote|disclaimer|note:|notes:|hinweis:|\*+\s|\* )"
)
_HINT = (
    r"(?i)\b(mandatory|required|optional|obligatory|e\.?\s?g\.?|for example|example|z\.?\s?b\.?"
    r"|beispiel|pflichtfeld"
    r"|pflicht|bitte|please|max\.?|digits|characters|chars|stellen|zeichen|stellig|format"
    r"|dd[./-]mm|mm[./-]dd"
    r"|yyyy|jjjj|tt\.mm|aaaa|obligatoire|facultatif|par ex|chiffres|caractères|obligatorio"
    r"|opcional|ejemplo"
    r"|dígitos|obbligatorio|facoltativo|esempio|cifre|wymagane|opcjonalne|np\.|cyfr|znaków"
    r"|zorunlu|isteğe"
    r"|örn|haneli|verplicht|optioneel|bijv|cijfers|text|number|date|string|varchar|free text"
    r"|freitext|see note)\b"
    r"|必須|任意|例[：:)]|桁|文字|إلزامي|اختياري|مثال|^\W*\(.*\)\W*$|^<.*>$|^\[.*\]$"
)
_EXAMPLE = (
    r"(?i)^\W*(e\.?\s?g\.|for example|example|z\.?\s?b\.|beispiel|par ex|p\. ?ex|ejemplo"
    r"|esempio|es\.|np\.|örn|bijv|bv\.|例|مثال)"
)
_RULE = r"^[\-=_*~.·•–—+|\s]{3,}$"
#: Columns that a suspect has beside its cells.
_OWN_COLUMNS = 8
#: So many cells of lines without a number are looked at one by one; the others by patterns alone.
_CELLS_ONE_BY_ONE = 100_000
_AT_THE_TOP = 3
_LONGEST_HEADER = 60
LINES = (
    "line_header",
    "line_title",
    "line_total",
    "line_page",
    "line_sign_off",
    "line_hint",
    "line_packing",
    "line_rule",
    "line_other_table",
)


def no_rows(
    cells: pl.DataFrame,
    numbers: pl.Series,
    meaning: Mapping[str, str],
    proven: pl.Series,
    sound: pl.Series,
    lengths: pl.Series,
) -> pl.DataFrame:
    """`row, code, given` for each line that is no row.

    proven:  rows with a number that proves itself by a check digit; they are always rows
    sound:   rows with any number that passed its check
    lengths: how long each row's serial number is; null without one
    """
    suspects = _suspects(cells, numbers, meaning, proven, sound)
    if suspects.height == 0:
        return suspects.select("row", "code", "given")
    headers = [(_bare(name), meaning.get(name)) for name in cells.columns]
    found = _by_patterns(suspects, meaning)
    texts = (
        found.select("place", "first", *cells.columns)
        .head(_CELLS_ONE_BY_ONE // max(cells.width, 1))
        .rows()
    )
    marked = {row[0]: _is_header(row[2:], headers) for row in texts}
    found = found.with_columns(
        code=pl.when(pl.col("place").replace_strict(marked, default="") == "same")
        .then(pl.lit("line_header"))
        .when(pl.col("place").replace_strict(marked, default="").is_in(["other", "other numbers"]))
        .then(pl.lit("line_other_table"))
        .otherwise("code")
    )
    whole = {place for place, mark in marked.items() if mark == "other numbers"}
    return _with_what_follows(found, numbers, meaning, _Look(proven, lengths), whole)


def _suspects(
    cells: pl.DataFrame,
    numbers: pl.Series,
    meaning: Mapping[str, str],
    proven: pl.Series,
    sound: pl.Series,
) -> pl.DataFrame:
    """Lines without a number, lines with few cells, and lines whose number begins like a total, a
    page or a carton; with `place`, `row`, `filled`, `first` and all their cells.
    """
    filled = cells.select(n=pl.sum_horizontal(pl.all().is_not_null().cast(pl.Int32))).to_series()
    usual = int(filled.median() or 0)  # type: ignore[arg-type]
    serials = [name for name, column in meaning.items() if column == "serial"]
    begins = pl.repeat(False, cells.height, dtype=pl.Boolean, eager=True)
    for name in serials:
        begins = begins | cells[name].str.contains(_WORDED).fill_null(False)
    few = filled * 2 <= usual if usual > 1 else pl.repeat(False, cells.height, eager=True)
    suspect = ~proven & (~sound | few | begins)
    suspect = suspect | _examples(cells)
    places = suspect.arg_true()
    return (
        cells.select(pl.all().gather(places).replace("", None))
        .with_columns(
            place=places.cast(pl.Int64),
            row=numbers.gather(places),
            filled=filled.gather(places),
            few=(few | (filled == 1)).gather(places),
            has_number=sound.gather(places),
            first=pl.coalesce(pl.all()),
            code=pl.lit(None, dtype=pl.String),
        )
        .with_columns(given=pl.concat_str(cells.columns, separator=" · ", ignore_nulls=True))
    )


def _examples(cells: pl.DataFrame) -> pl.Series:
    """Lines at the top that show how a number would look."""
    given = pl.concat_str(cells.columns, separator=" · ", ignore_nulls=True)
    top = cells.head(_AT_THE_TOP).select(given.str.contains(_EXAMPLE).fill_null(False)).to_series()
    rest = pl.repeat(False, max(cells.height - _AT_THE_TOP, 0), dtype=pl.Boolean, eager=True)
    return pl.concat([top.alias("top"), rest.alias("top")])


#: A serial number that is rather a word and a count: TOTAL: 40, PAGE3OF3, CARTON12.
_WORDED = (
    r"(?i)^\W*(totals?|summe|gesamt|somme|totale|totaal|suma|razem|toplam|page|seite|blatt"
    r"|página|pagina"
    r"|strona|sayfa|carton|pallet|palette|karton|colis|caja|palet|paleta|kutu|doos|box|sscc|anzahl)"
    r"(\W|\d|_|$)|^\W*\(?00\)?\s?\d{18}\W*$"
)


def _by_patterns(suspects: pl.DataFrame, meaning: Mapping[str, str]) -> pl.DataFrame:
    first, given = pl.col("first"), pl.col("given")
    serials = [pl.col(name) for name, column in meaning.items() if column == "serial"]

    def begins(pattern: str) -> pl.Expr:
        return pl.any_horizontal(
            first.str.contains(pattern),
            *(cell.str.contains(pattern).fill_null(False) for cell in serials),
        )

    numberless = ~pl.col("has_number")
    slight = pl.col("few") | numberless
    return suspects.with_columns(
        code=pl.when(given.str.contains(_RULE))
        .then(pl.lit("line_rule"))
        .when(slight & begins(_TOTAL))
        .then(pl.lit("line_total"))
        .when(begins(_PAGE))
        .then(pl.lit("line_page"))
        .when((pl.col("few") | (numberless & begins(_WORDED))) & begins(_PACKING))
        .then(pl.lit("line_packing"))
        .when(numberless & first.str.contains(_SIGN_OFF))
        .then(pl.lit("line_sign_off"))
        .when(
            (pl.col("place") < _AT_THE_TOP)
            & ((numberless & _most(_HINT)) | (_most(_EXAMPLE) & given.str.contains(_EXAMPLE)))
        )
        .then(pl.lit("line_hint"))
        .when(numberless & (pl.col("filled") == 1) & _is_text(first, suspects, meaning))
        .then(pl.lit("line_title"))
    )


def _most(pattern: str) -> pl.Expr:
    """Whether half of the line's cells, or more, have the pattern."""
    given = pl.col("given").str.split(" · ")
    having = given.list.eval(pl.element().str.contains(pattern)).list.sum()
    return (having * 2 >= pl.col("filled")) & (having >= 1)


def _is_text(first: pl.Expr, suspects: pl.DataFrame, meaning: Mapping[str, str]) -> pl.Expr:
    """One cell alone, which is not a broken number: it stands outside the columns of numbers, or
    has words.
    """
    columns = [name for name in suspects.columns if meaning.get(name) in IDENTIFIER_COLUMNS]
    outside = pl.all_horizontal(*(pl.col(name).is_null() for name in columns), pl.lit(value=True))
    wide = len([c for c in suspects.columns if c in meaning]) > 1
    worded = first.str.contains(
        r"\pL{3,}\W+\pL{2,}|\pL{3,}\s*:|^\W*\pL{4,}\W+\d{1,4}\W*$|^[#=*\-–—~]{2,}"
    )
    bare = ~first.str.contains(r"\d") & pl.lit(len(suspects.columns) > _OWN_COLUMNS + 1)
    alone = ((outside & pl.lit(wide)) | bare) & first.str.contains(r"\pL") | worded
    return alone & ~identifiers.is_placeholder(first)


def _bare(header: str) -> str:
    return re.sub(r"\d{0,2}$", "", key(header))


def _is_header(cells: tuple[str | None, ...], headers: list[tuple[str, str | None]]) -> str:
    """ "same" where the line repeats the headers, perhaps in another language; "other" where it has
    the headers of another table, "other numbers" where that has numbers of devices; else nothing.
    """
    same = other = filled = numbers = 0
    for cell, (header, column) in zip(cells, headers, strict=True):
        if cell is None or not cell.strip():
            continue
        filled += 1
        if len(cell) > _LONGEST_HEADER:
            continue
        bare = _bare(cell)
        means = meanings(cell) if not re.search(r"\d{3}", cell) else {}
        if bare == header or (column is not None and column in means):
            same += 1
            numbers += column in IDENTIFIER_COLUMNS
        elif means:
            other += 1
            numbers += any(one in IDENTIFIER_COLUMNS for one in means)
    if same and same * 2 >= filled and same >= other and (filled > 1 or numbers):
        return "same"
    if numbers and (same + other) * 2 >= filled and filled > 1:
        return "other numbers"
    return "other" if other >= 2 and (same + other) * 2 > filled else ""


@dataclass(frozen=True, slots=True)
class _Look:
    """What rows look like by their numbers."""

    proven: pl.Series
    lengths: pl.Series

    def like_those_above(self, start: int, most: int | None = None) -> pl.Series:
        """Which rows below that place have numbers like the rows above it."""
        above = self.lengths.head(start).drop_nulls().unique()
        below = self.lengths.slice(start + 1, most)
        return (below.is_in(above.implode()) | self.proven.slice(start + 1, most)).fill_null(False)


def _with_what_follows(
    found: pl.DataFrame,
    numbers: pl.Series,
    meaning: Mapping[str, str],
    look: _Look,
    whole: set[int],
) -> pl.DataFrame:
    """The rows under the headers of another table belong to it, until the headers come again or a
    row looks like those of the first table; not so where the other table has numbers of its own.
    """
    found = _tables_after_a_gap(found, numbers, meaning, look)
    starts = found.filter(pl.col("code") == "line_other_table")["place"].to_list()
    listed = found.filter(pl.col("code").is_not_null()).select("row", "code", "given")
    if not starts:
        return listed
    again = found.filter(pl.col("code") == "line_header")["place"].to_list()
    known = set(found.filter(pl.col("code").is_not_null())["place"].to_list())
    rows: dict[int, None] = {}
    for start in starts:
        stop = min([place for place in again if place > start], default=numbers.len())
        if start not in whole:
            like = look.like_those_above(start, stop - start - 1).arg_true()
            stop = start + 1 + int(like[0]) if like.len() else stop
        rows |= dict.fromkeys(place for place in range(start + 1, stop) if place not in known)
    places = pl.Series(list(rows), dtype=pl.Int64)
    more = pl.DataFrame({"row": numbers.gather(places)}).select(
        "row", code=pl.lit("line_other_table"), given=pl.lit(None, dtype=pl.String)
    )
    return pl.concat([listed, more.cast(listed.schema)])


def _tables_after_a_gap(
    found: pl.DataFrame, numbers: pl.Series, meaning: Mapping[str, str], look: _Look
) -> pl.DataFrame:
    """A line of words only, behind an empty line or a title, below which no row looks like those
    above: the headers of a table about something else. A number that is missing, broken or too long
    is no word: the row of a device stays one wherever it stands.
    """
    numbered = [pl.col(name) for name, column in meaning.items() if column in IDENTIFIER_COLUMNS]
    quiet = found.filter(
        pl.col("code").is_null()
        & ~pl.col("has_number")
        & (pl.col("filled") >= 2)
        & ~pl.col("given").str.contains(r"\d{2}")
        & ~pl.any_horizontal(pl.lit(value=False), *map(_no_word, numbered))
    )
    titles = set(found.filter(pl.col("code").is_in(_BEFORE_A_TABLE))["place"])
    for place in quiet["place"].head(200):
        gap = place > 0 and (numbers[place] - numbers[place - 1] > 1 or place - 1 in titles)
        below = look.like_those_above(place, 3)
        if gap and below.len() and not below.any():
            is_start = pl.col("place") == place
            return found.with_columns(
                code=pl.when(is_start).then(pl.lit("line_other_table")).otherwise("code")
            )
    return found


def _no_word(cell: pl.Expr) -> pl.Expr:
    broken = cell.str.contains(r"\d") & ~cell.str.contains(r"\pL{3,}")
    long = cell.str.len_chars() > _LONGEST_HEADER
    return (broken | long | identifiers.is_placeholder(cell)).fill_null(False)


_BEFORE_A_TABLE = ["line_title", "line_total", "line_rule"]
