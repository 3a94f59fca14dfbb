"""The cells that are no identifiers: cleaned, understood by their everyday words, and noted where
they cannot be kept as they are.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import partial

import polars as pl

from sortitor.core import identifiers, placeholders, platforms
from sortitor.core.lookalikes import MIXED, seen, unfolded
from sortitor.core.naming.templates import ALLOWED
from sortitor.core.vocabulary import Ownership, Platform

_FORMULA = r"^([=@]|[+\-].*[(|!])"
#: Printable ASCII that neither begins like a formula nor has blanks at its ends: nothing to clean,
#: nothing to doubt.
_PLAIN_TEXT = r"^[!-&(-*,.-<>?A-~]([ -~]{0,498}[!-~])?$"
#: What a spreadsheet hides from its readers but not from its files: a text's mark.
_MARKED = r"^'[\d=+\-@]"
_NUMBER = (
    r"^[+-]?\d+[.,]\d+$|^(19|20)\d\d-\d\d-\d\d[ T]00:00:00$|^(?i:true|false|wahr|falsch|vrai|faux)$"
)
DATES = ("purchased_on", "warranty_until")
#: Fields whose words are few: each different one is looked at once.
_OF_FEW_WORDS = ("platform", "ownership", "tags")
_NAMING_FIELDS = ("maker", "model")
_SAMPLE = 10_000

_PLATFORM_WORDS = {
    Platform.ANDROID: r"\b(android|aosp)\b",
    Platform.IOS: r"\b(ios|ipad ?os|iphone ?os|iphones?|ipads?)\b",
    Platform.WINDOWS: r"\b(windows|win)\b|\b(windows|win) ?\d",
    Platform.MACOS: r"\b(mac ?os|os ?x|macintosh|mac os x)\b",
    Platform.LINUX: r"\b(linux|ubuntu|debian|fedora|red hat|rhel|suse|opensuse|centos|mint)\b",
}
_OWNERSHIP_WORDS: dict[Ownership, str] = {
    Ownership.CORPORATE: """
        corporate; company; company owned; business; organisation; organization; enterprise; firm
        corporate owned; owned by company; work; employer; company device; corp; cobo; cope; our own
        firmeneigen; firma; firmengerat; unternehmen; dienstlich; dienstgerat; betrieblich
        geschaftlich
        firmeneigentum; unternehmenseigen; unternehmenseigentum; eigentum der firma
        entreprise; societe; professionnel; professionnelle; pro; propriete de l entreprise
        empresa; corporativo; corporativa; de la empresa; profesional; propiedad de la empresa
        azienda; aziendale; di proprieta aziendale; proprieta aziendale; societa
        sluzbowy; sluzbowe; sluzbowa; firmowy; firmowe; firmowa; wlasnosc firmy
        sirket; kurumsal; sirkete ait; is
        zakelijk; bedrijf; van de zaak; bedrijfseigendom; eigendom bedrijf
        会社; 法人; 社用; 会社所有; 業務用; 社有; 会社支給
        شركة; الشركة; ملك الشركة; مؤسسة; عمل; مملوك للشركة
    """,
    Ownership.PERSONAL: """
        personal; private; byod; employee; employee owned; user owned; own device; privately owned
        bring your own device; personally owned; staff; user
        privat; mitarbeitereigen; mitarbeiter; personlich; privatgerat; privateigentum
        personnel; personnelle; prive; privee; salarie; particulier
        privado; particular; del empleado; propio
        personale; privato; del dipendente; dipendente
        prywatny; prywatne; prywatna; osobisty; wlasny
        kisisel; ozel; calisana ait; sahsi
        prive; persoonlijk; eigen; eigen toestel
        個人; 私物; 個人所有; 個人用; 私用
        شخصي; شخصية; خاص; ملك الموظف; شخصى
    """,
    Ownership.PARTNER: """
        partner; contractor; external; third party; subcontractor; fremdfirma; partnerfirma
        dienstleister
        partenaire; prestataire; externe; sous traitant; socio; contratista; externo
        partner esterno
        esterno; fornitore; partnerski; wykonawca; zewnetrzny; ortak; yuklenici; taseron; extern
        aannemer
        パートナー; 協力会社; 外部; 委託先; شريك; مقاول; خارجي
    """,
    Ownership.UNKNOWN: "unknown; unbekannt; inconnu; inconnue; desconocido; sconosciuto; nieznany; "
    "nieznana; bilinmiyor; onbekend; 不明; غير معروف; unclear; unklar",
}


def _by_key(words: Mapping[Ownership, str]) -> dict[str, str]:
    return {
        placeholders.key(word): ownership.value
        for ownership, text in words.items()
        for word in re.split(r"[;\n]", text)
        if placeholders.key(word)
    }


_OWNERSHIPS = _by_key(_OWNERSHIP_WORDS)


def platform_of(text: str) -> str | None:
    """The platform that a text names; None where it names none or several."""
    plain = text[:200].strip().casefold()
    if plain in platforms.SYNONYMS:
        return platforms.SYNONYMS[plain]
    words = re.sub(r"[^\w]+", " ", plain)
    named = [p.value for p, pattern in _PLATFORM_WORDS.items() if re.search(pattern, words)]
    return named[0] if len(named) == 1 else None


def ownership_of(text: str) -> str | None:
    """The ownership that a text means; None where it means none."""
    return _OWNERSHIPS.get(placeholders.key(text))


def check_field(field: str, cells: pl.Series) -> pl.DataFrame:
    """Columns `value` and `note` for one device field that is no date."""
    closely = partial(_closely, field)
    if field == "name":
        plain = cells.str.contains(ALLOWED) & cells.str.contains(r"[A-Za-z].*\d|\d.*[A-Za-z]")
        return identifiers.checked_in_part(cells, plain, cells, closely)
    if field in _OF_FEW_WORDS or _repeats(cells):
        return each_once(cells, closely)
    plain = cells.str.contains(_PLAIN_TEXT) & ~cells.str.contains("  ", literal=True)
    if field != "note":
        # Whatever says that there is nothing to say has no digit.
        plain = plain & cells.str.contains(r"[A-Za-z].*\d|\d.*[A-Za-z@]")
    return identifiers.checked_in_part(cells, plain, cells, closely)


def _repeats(cells: pl.Series) -> bool:
    """Whether few different texts stand in many cells."""
    sample = cells.head(_SAMPLE).drop_nulls()
    return sample.n_unique() * 5 <= sample.len() + 50


def each_once(cells: pl.Series, closely: identifiers.Check) -> pl.DataFrame:
    """What `closely` says of each different cell."""
    different = cells.drop_nulls().unique()
    found = closely(different).with_columns(cell=different)
    return (
        cells.alias("cell")
        .to_frame()
        .join(found, on="cell", how="left", maintain_order="left")
        .select("value", "note")
    )


def _closely(field: str, cells: pl.Series) -> pl.DataFrame:
    frame = pl.DataFrame({"text": cells}).select(text=seen(pl.col("text")))
    wrapped = pl.col("text").str.contains(r'^="[^"=]*"$')
    marked = pl.col("text").str.contains(_MARKED)
    frame = frame.with_columns(
        text=pl.when(wrapped)
        .then(pl.col("text").str.slice(2, pl.col("text").str.len_chars() - 3))
        .when(marked)
        .then(pl.col("text").str.slice(1)),
        remark=pl.when(wrapped)
        .then(pl.lit("text_formula_unwrapped"))
        .when(marked)
        .then(pl.lit("leading_apostrophe")),
        given="text",
    ).with_columns(text=pl.coalesce("text", "given"))
    if field != "note":
        frame = _in_latin(frame)
    blank = _blank(field)
    value, code = _meaning_of(field, frame["text"])
    fault = (
        pl.when(
            pl.col("given").str.contains(_FORMULA)
            & ~pl.col("remark").is_in(_UNWRAPPED).fill_null(False)
        )
        .then(pl.lit("formula"))
        .when(pl.col("text").str.len_chars() > 500)
        .then(pl.lit("text_too_long"))
    )
    checked = frame.with_columns(value).select(
        "text", "remark", fault=pl.when(blank.is_null()).then(fault), value="value", blank=blank
    )
    if code:
        missed = (
            pl.col("value").is_null() & pl.col("text").is_not_null() & pl.col("blank").is_null()
        )
        checked = checked.with_columns(
            fault=pl.coalesce("fault", pl.when(missed).then(pl.lit(code)))
        )
    return checked.select(
        value=pl.when(pl.col("fault").is_null() & pl.col("blank").is_null()).then("value"),
        note=pl.coalesce("blank", "fault", "remark"),
    )


_UNWRAPPED = ["text_formula_unwrapped", "leading_apostrophe"]


def _in_latin(frame: pl.DataFrame) -> pl.DataFrame:
    """Words that mix alphabets, in the one that a reader takes them for."""
    mixed = frame["text"].str.contains(MIXED).fill_null(False)
    if not mixed.any():
        return frame
    folded = unfolded(pl.col("text"))
    takes = pl.lit(mixed) & ~folded.str.contains(MIXED)
    return frame.with_columns(
        text=pl.when(takes).then(folded).otherwise("text"),
        remark=pl.when(takes).then(pl.lit("look_alike_letters")).otherwise("remark"),
    )


def _blank(field: str) -> pl.Expr:
    """The note on a cell that says nothing, else null."""
    text = pl.col("text")
    error = pl.when(text.str.contains(identifiers.CELL_ERROR)).then(pl.lit("cell_error_blank"))
    if field in ("note", "tags"):
        return error
    nothing = identifiers.is_placeholder(text)
    if field == "ownership":
        nothing = nothing & ~identifiers.bare(text).is_in(list(_OWNERSHIPS))
    if field in _NAMING_FIELDS:
        unnamed = pl.when(text.str.contains(_NUMBER)).then(pl.lit("no_name"))
        return pl.coalesce(error, unnamed, pl.when(nothing).then(pl.lit("placeholder_blank")))
    return pl.coalesce(error, pl.when(nothing).then(pl.lit("placeholder_blank")))


def _meaning_of(field: str, texts: pl.Series) -> tuple[pl.Series, str]:
    """How a field's cleaned texts are understood, and the code of a text that cannot be."""
    if field in ("platform", "ownership"):
        reads = platform_of if field == "platform" else ownership_of
        known = [reads(text) if text is not None else None for text in texts]
        return pl.Series("value", known, dtype=pl.String), f"{field}_unknown"
    frame = pl.DataFrame({"text": texts})
    if field == "name":
        allowed = pl.when(pl.col("text").str.contains(ALLOWED)).then("text")
        return frame.select(value=allowed).to_series(), "name_characters"
    if field == "tags":
        parts = pl.col("text").str.split(";").list.eval(pl.element().str.strip_chars())
        kept = parts.list.eval(pl.element().filter(pl.element() != ""))
        return frame.select(
            value=kept.list.unique(maintain_order=True).list.join(";").replace("", None)
        ).to_series(), ""
    return texts.alias("value"), ""
