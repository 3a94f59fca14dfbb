"""Every row's verdict, on the facts of the fleet."""

from __future__ import annotations

import json
from dataclasses import dataclass

import polars as pl

from sortitor.core import columns
from sortitor.core.lots.prepare import note_on
from sortitor.core.lots.shapes import NOTES_SCHEMA, REMEDIES, Decided, Facts, Prepared, choices_of
from sortitor.core.naming.compose import length_limit
from sortitor.core.notes import CATALOGUE
from sortitor.core.vocabulary import Basis, IdentifierKind, Remedy, Severity, Stage, Verdict

_CODES = {
    verdict: [code for code, kind in CATALOGUE.items() if kind.verdict is verdict]
    for verdict in (Verdict.REJECT, Verdict.CONFLICT, Verdict.NO_ROW)
}
#: Which of two devices stays when they are merged: the one that is in use.
_STANDING = [Stage.ACTIVE, Stage.DORMANT, Stage.PARKED, Stage.AWAITED, Stage.RETIRED]


@dataclass(frozen=True, slots=True)
class _Found:
    """Which device each row means: `one` (`row, device_id`), what contradicts, which devices would
    be merged.
    """

    one: pl.DataFrame
    notes: list[pl.DataFrame]
    merges: pl.DataFrame


def decide(
    prepared: Prepared,
    facts: Facts,
    overwrite_manual: bool = False,
    choices: pl.DataFrame | None = None,
    by_hand: bool = False,
    known_only: bool = False,
) -> Decided:
    """Rows with an error are rejected; contradictions are conflicts; the rest is add, change or
    unchanged.

    choices: `row, remedy` (see Remedy), what a person decided about single rows.
    by_hand: the file states ownership with the basis of a statement by hand.
    known_only: a row whose device nobody knows is rejected rather than added.
    """
    chosen = choices if choices is not None else choices_of()
    skipped = chosen.filter(pl.col("remedy") == Remedy.SKIP)["row"]
    rows, of_people = _with_people(
        prepared.rows, facts.people, prepared.headers.get("person", "person")
    )
    notes = [prepared.notes, of_people]
    no_rows = _rows_with(notes, Verdict.NO_ROW)
    rejected = _rows_with(notes, Verdict.REJECT)
    keys = _without(prepared.keys, pl.concat([rejected, skipped]))
    # Looked for by value alone first: in most files no value stands twice.
    shared = keys.filter(keys["value"].is_duplicated())
    repeats, within = _within_file(rows, keys, shared)
    found = _matched(keys, shared, facts, chosen)
    notes += [*within, *found.notes]
    if known_only:
        strangers = _of_nobody(keys, found, _rows_with(found.notes, Verdict.CONFLICT))
        notes.append(strangers)
        rejected = pl.concat([rejected, strangers["row"]])
    conflicts = _rows_with(notes, Verdict.CONFLICT)
    rows, of_names = _with_names(
        rows,
        found.one,
        facts,
        pl.concat([rejected, conflicts, repeats, skipped, no_rows]),
        prepared.headers.get("name", "name"),
    )
    notes += of_names
    notes += _asset_tags(
        rows,
        found.one,
        facts,
        pl.concat([rejected, repeats, skipped, no_rows]),
        prepared.headers.get("asset_tag", "asset_tag"),
    )
    changes, kept = _changes(
        rows.join(found.one, on="row"),
        keys,
        facts,
        (overwrite_manual, by_hand),
        chosen,
        found.merges,
    )
    notes += [kept, note_on(skipped, "skipped", "")]
    rows = _joined(_joined(rows, found.one), changes)
    verdict = _verdicts(rows, keys, rejected, conflicts, repeats, skipped, no_rows)
    rows = rows.with_columns(verdict).with_columns(
        changes=pl.when(pl.col("verdict") == Verdict.CHANGE.value).then("changes"),
        ownership_basis=pl.when(pl.col("ownership").is_not_null()).then(
            pl.lit((Basis.MANUAL if by_hand else Basis.DECLARED).value)
        ),
        name_basis=pl.when(pl.col("name").is_not_null()).then(pl.lit(Basis.DECLARED.value)),
    )
    every = pl.concat(notes)
    every = _without(
        every, skipped, pl.col("code").is_in(_CODES[Verdict.REJECT] + _CODES[Verdict.CONFLICT])
    )
    merges = found.merges.join(
        rows.filter(pl.col("verdict") == Verdict.CHANGE.value).select("row"), on="row", how="semi"
    )
    return Decided(
        rows,
        keys,
        every.unique(maintain_order=True) if every["row"].is_duplicated().any() else every,
        merges,
    )


def _of_nobody(keys: pl.DataFrame, found: _Found, conflicts: pl.Series) -> pl.DataFrame:
    """A note on each row whose device nobody knows, with what it was to be known by."""
    first = keys.unique("row", keep="first", maintain_order=True)
    strange = _without(first.join(found.one, on="row", how="anti"), conflicts)
    return note_on(strange["row"], "device_unknown", "", strange["value"])


def _without(frame: pl.DataFrame, rows: pl.Series, only: pl.Expr | None = None) -> pl.DataFrame:
    """The frame without these rows (of those for which `only` holds)."""
    if rows.len() == 0:
        return frame
    gone = pl.col("row").is_in(rows.implode())
    return frame.filter(~(gone if only is None else gone & only))


def _joined(rows: pl.DataFrame, more: pl.DataFrame) -> pl.DataFrame:
    """The rows in their order with the further columns, null where there are none."""
    if more.height == 0:
        return rows.with_columns(
            pl.lit(None, dtype=more.schema[name]).alias(name)
            for name in more.columns
            if name != "row"
        )
    return rows.join(more, on="row", how="left", maintain_order="left")


def _rows_with(notes: list[pl.DataFrame], verdict: Verdict) -> pl.Series:
    """The rows that notes of this verdict stand on."""
    return pl.concat(
        [note.filter(pl.col("code").is_in(_CODES[verdict]))["row"] for note in notes]
    ).unique()


def _verdicts(
    rows: pl.DataFrame,
    keys: pl.DataFrame,
    rejected: pl.Series,
    conflicts: pl.Series,
    repeats: pl.Series,
    skipped: pl.Series,
    no_rows: pl.Series,
) -> pl.Series:
    row = pl.col("row")
    no_key = ~row.is_in(keys["row"].unique().implode())
    return rows.select(
        verdict=pl.when(row.is_in(no_rows.implode()))
        .then(pl.lit(Verdict.NO_ROW.value))
        .when(row.is_in(skipped.implode()))
        .then(pl.lit(Verdict.UNCHANGED.value))
        .when(row.is_in(rejected.implode()) | no_key)
        .then(pl.lit(Verdict.REJECT.value))
        .when(row.is_in(conflicts.implode()))
        .then(pl.lit(Verdict.CONFLICT.value))
        .when(row.is_in(repeats.implode()))
        .then(pl.lit(Verdict.UNCHANGED.value))
        .when(pl.col("device_id").is_null())
        .then(pl.lit(Verdict.ADD.value))
        .when(pl.col("changes").is_not_null())
        .then(pl.lit(Verdict.CHANGE.value))
        .otherwise(pl.lit(Verdict.UNCHANGED.value))
    ).to_series()


def _with_people(
    rows: pl.DataFrame, people: pl.DataFrame, header: str
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Rows with `person_id`; a note where nobody is known by the name."""
    if rows["person"].null_count() == rows.height:
        return rows.with_columns(person_id=pl.lit(None, dtype=pl.Int64)), pl.DataFrame(
            schema=NOTES_SCHEMA
        )
    rows = rows.with_columns(_name=pl.col("person").str.to_lowercase())
    rows = rows.join(
        people, left_on="_name", right_on="person", how="left", maintain_order="left"
    ).drop("_name")
    unknown = pl.col("person").is_not_null() & pl.col("person_id").is_null()
    missing = rows.filter(unknown)
    if missing.height:
        # What the note promises: the name stays with the device.
        kept = pl.struct(pl.col("person").alias(header)).struct.json_encode()
        both = pl.concat_str(
            pl.col("details").str.strip_suffix("}"),
            pl.when(pl.col("details") == "{}").then(pl.lit("")).otherwise(pl.lit(",")),
            kept.str.slice(1),
        )
        rows = rows.with_columns(details=pl.when(unknown).then(both).otherwise("details"))
    return rows, note_on(missing["row"], "person_unknown", header, missing["person"])


def _with_names(
    rows: pl.DataFrame, one: pl.DataFrame, facts: Facts, out: pl.Series, header: str
) -> tuple[pl.DataFrame, list[pl.DataFrame]]:
    """Rows without the names that their devices cannot have, and a note on each; rows that stay
    `out` take no name from others.
    """
    named = rows.select("row", "name", "platform").filter(
        pl.col("name").is_not_null() & ~pl.col("row").is_in(out.implode())
    )
    if named.height == 0:
        return rows, []
    known = one.join(facts.devices.select("device_id", known_platform="platform"), on="device_id")
    named = named.join(known, on="row", how="left", maintain_order="left").with_columns(
        lower_name=pl.col("name").str.to_lowercase()
    )
    named = named.join(facts.names, on="lower_name", how="left", maintain_order="left")
    problem = (
        pl.when(
            pl.col("name").str.len_chars() > length_limit(pl.coalesce("platform", "known_platform"))
        )
        .then(pl.lit("name_too_long"))
        .when(pl.col("lower_name").is_duplicated())
        .then(pl.lit("name_twice"))
        .when(pl.col("holder_id") != pl.col("device_id").fill_null(-1))
        .then(pl.lit("name_taken"))
    )
    bad = named.with_columns(problem=problem).filter(pl.col("problem").is_not_null())
    notes = [
        note_on(part["row"], str(code), header, part["name"])
        for (code,), part in bad.group_by("problem", maintain_order=True)
    ]
    return (
        rows.with_columns(name=pl.when(~pl.col("row").is_in(bad["row"].implode())).then("name")),
        notes,
    )


def _asset_tags(
    rows: pl.DataFrame, one: pl.DataFrame, facts: Facts, out: pl.Series, header: str
) -> list[pl.DataFrame]:
    """Notes on asset tags that several rows give, or that another device has."""
    tagged = rows.select("row", "asset_tag").filter(
        pl.col("asset_tag").is_not_null() & ~pl.col("row").is_in(out.implode())
    )
    if tagged.height == 0:
        return []
    tagged = tagged.join(one, on="row", how="left", maintain_order="left").with_columns(
        tag=pl.col("asset_tag").str.to_lowercase()
    )
    twice = tagged.filter(tagged["tag"].is_duplicated())
    taken = tagged.join(facts.tags, on="tag").filter(
        pl.col("holder_id") != pl.col("device_id").fill_null(-1)
    )
    return [
        note_on(twice["row"], "asset_tag_twice", header, twice["asset_tag"]),
        note_on(taken["row"], "asset_tag_taken", header, taken["asset_tag"]),
    ]


def _within_file(
    rows: pl.DataFrame, keys: pl.DataFrame, shared: pl.DataFrame
) -> tuple[pl.Series, list[pl.DataFrame]]:
    """Rows that repeat an earlier one, and notes on repeated and on contradicting rows."""
    # A serial without a maker may be that of any maker in the file, so it is compared with all of
    # them.
    shared = shared.with_columns(
        maker=pl.when(pl.col("maker").min().over("kind", "value") == "")
        .then(pl.lit(""))
        .otherwise("maker")
    ).filter(pl.len().over("kind", "value", "maker") > 1)
    if shared.height == 0:
        return pl.Series(dtype=pl.Int64), []
    concerned = shared.select("row").unique()
    same = rows.join(concerned, on="row", how="semi").select(
        "row", *columns.FIELDS, "person_id", "details"
    )
    of_row = (
        keys.join(concerned, on="row", how="semi")
        .sort("kind", "value")
        .group_by("row")
        .agg(keys=pl.concat_str("kind", "value", separator="=").str.join(","))
    )
    print_of = same.join(of_row, on="row").select(
        "row", print=pl.struct(pl.exclude("row")).struct.json_encode()
    )
    shared = shared.join(print_of, on="row").with_columns(
        prints=pl.col("print").n_unique().over("kind", "value", "maker"),
        first=pl.col("row").min().over("kind", "value", "maker"),
    )
    disagree = shared.filter(pl.col("prints") > 1).unique("row")
    repeated = shared.filter((pl.col("prints") == 1) & (pl.col("row") > pl.col("first"))).unique(
        "row"
    )
    repeated = repeated.join(disagree, on="row", how="anti")
    notes = [
        note_on(found["row"], code, "", found["given"])
        for code, found in (("rows_disagree", disagree), ("duplicate_row", repeated))
    ]
    return repeated["row"], notes


def _matched(
    keys: pl.DataFrame, shared: pl.DataFrame, facts: Facts, choices: pl.DataFrame
) -> _Found:
    """`row, device_id` where exactly one device fits, and notes on every row where the fleet
    contradicts.
    """
    found = facts.matches
    if found.height:
        found = found.join(keys.select("row").unique(), on="row", how="semi")
    exact = (pl.col("kind") != IdentifierKind.SERIAL.value) | (
        pl.col("maker") == pl.col("device_maker")
    )
    key = ["row", "kind", "value"]
    found = found.with_columns(exact=exact).filter(
        pl.col("exact") | ~pl.col("exact").any().over(key)
    )
    found = found.with_columns(
        devices=pl.col("device_id").n_unique().over(key),
        per_row=pl.col("device_id").n_unique().over("row"),
    )
    ambiguous = found.filter(pl.col("devices") > 1)
    two = found.filter((pl.col("per_row") > 1) & (pl.col("devices") == 1)).join(
        ambiguous, on="row", how="anti"
    )
    merging = _chosen(two, choices, "two_devices")
    survivors, merges = _survivors(merging, facts)
    single = found.filter(pl.col("per_row") == 1).unique("row").select("row", "device_id")
    one = pl.concat([single, survivors]).join(facts.devices, on="device_id")
    twice = one.filter(pl.len().over("device_id") > 1).join(_sharing(shared), on="row", how="anti")
    had = facts.owned.filter(pl.col("kind") == IdentifierKind.SERIAL.value)
    serials = keys.filter(pl.col("kind") == IdentifierKind.SERIAL.value).join(single, on="row")
    differs = serials.join(had.select("device_id").unique(), on="device_id", how="semi").join(
        had, on=["device_id", "value"], how="anti"
    )
    troubles = {
        "ambiguous_serial": ambiguous,
        "two_devices": two.join(merging, on="row", how="anti"),
        "rows_same_device": twice,
        "serial_differs": differs,
        "retired_device": one.filter(pl.col("stage") == Stage.RETIRED.value),
        "flagged_device": one.filter(pl.col("flagged")),
    }
    notes = [note_on(merging["row"].unique(), "merged", "")]
    for code, rows in troubles.items():
        resolved = _chosen(rows, choices, code)
        notes.append(
            note_on(
                rows.join(resolved, on="row", how="anti")["row"].unique(maintain_order=True),
                code,
                "",
            )
        )
        if code in REMEDIES[Remedy.TAKE_BACK]:
            notes.append(note_on(resolved["row"].unique(), "taken_back", ""))
    return _Found(one.select("row", "device_id"), notes, merges)


def _chosen(rows: pl.DataFrame, choices: pl.DataFrame, code: str) -> pl.DataFrame:
    """Those of the rows whose trouble a person has resolved."""
    remedies = [remedy.value for remedy, codes in REMEDIES.items() if code in codes]
    return rows.join(choices.filter(pl.col("remedy").is_in(remedies)), on="row", how="semi")


def _survivors(merging: pl.DataFrame, facts: Facts) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The device that stays for each merged row, and the others that come to it."""
    ranks = {stage.value: rank for rank, stage in enumerate(_STANDING)}
    pairs = (
        merging.select("row", "device_id")
        .unique()
        .join(facts.devices.select("device_id", "stage"), on="device_id")
    )
    pairs = pairs.with_columns(
        rank=pl.col("stage").replace_strict(ranks, return_dtype=pl.Int64)
    ).sort("row", "rank", "device_id")
    stays = pairs.unique("row", keep="first", maintain_order=True).select("row", "device_id")
    others = (
        pairs.select("row", other_id="device_id")
        .join(stays, on="row")
        .filter(pl.col("other_id") != pl.col("device_id"))
    )
    return stays, others.select("row", "device_id", "other_id")


def _sharing(shared: pl.DataFrame) -> pl.DataFrame:
    """Rows that share an identifier with another row of the file; they have their own verdicts."""
    return shared.filter(pl.len().over("kind", "value") > 1).select("row").unique()


def _changes(
    found: pl.DataFrame,
    keys: pl.DataFrame,
    facts: Facts,
    overwriting: tuple[bool, bool],
    choices: pl.DataFrame,
    merges: pl.DataFrame,
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """`row, changes` as JSON for rows that change their device, and notes on values that stay."""
    fields = [*columns.FIELDS, "person_id"]
    new = found.select("row", "device_id", *(pl.col(f).cast(pl.String) for f in fields))
    new = new.unpivot(
        fields, index=["row", "device_id"], variable_name="field", value_name="new"
    ).drop_nulls("new")
    old = facts.devices.select("device_id", *(pl.col(f).cast(pl.String) for f in fields))
    old = old.unpivot(fields, index="device_id", variable_name="field", value_name="old")
    change = new.join(old, on=["device_id", "field"], how="left").filter(
        pl.col("old").is_null() | (pl.col("old") != pl.col("new"))
    )
    change = change.join(
        facts.devices.select("device_id", "manual", "ownership_basis", "name_basis"), on="device_id"
    )
    overwrite_manual, by_hand = overwriting
    # A newer statement by hand takes the place of an older one; a supplier's file does not.
    declared = (
        (pl.col("field") == "ownership")
        & (pl.col("ownership_basis") == Basis.MANUAL.value)
        & pl.lit(not by_hand)
    )
    named = (pl.col("field") == "name") & (pl.col("name_basis") == Basis.MANUAL.value)
    owned = (
        change.filter(
            pl.col("manual").str.split(";").list.contains(pl.col("field"))
            | declared
            | named.fill_null(False)
        )
        if not overwrite_manual
        else change.clear()
    )
    notes = note_on(owned["row"], "manual_kept", "", owned["new"]).with_columns(
        column=owned["field"]
    )
    change = change.join(owned, on=["row", "field"], how="anti").select(
        "row", "field", "old", "new"
    )
    added = keys.join(found.select("row", "device_id"), on="row").join(
        facts.owned, on=["device_id", "kind", "value"], how="anti"
    )
    # Identifiers that come along with a merged device are not new.
    added = added.join(
        merges.join(facts.owned, left_on="other_id", right_on="device_id"),
        on=["row", "kind", "value"],
        how="anti",
    )
    change = pl.concat(
        [
            change,
            added.select("row", field="kind", old=pl.lit(None, dtype=pl.String), new="value"),
            *_taken_back(found, facts, choices),
            _released(change, found, facts),
            merges.select(
                "row",
                field=pl.lit("merged_devices"),
                old=pl.lit("device ") + pl.col("other_id").cast(pl.String),
                new=pl.lit("device ") + pl.col("device_id").cast(pl.String),
            ),
        ]
    )
    pairs = change.select(
        "row",
        pair=pl.concat_str(
            pl.lit('"'), "field", pl.lit('":'), pl.struct("old", "new").struct.json_encode()
        ),
    )
    # A second identifier of one kind in one row shows the last; the identifiers themselves are kept
    # as keys.
    joined = pairs.group_by("row", maintain_order=True).agg(
        changes=pl.lit("{") + pl.col("pair").str.join(",") + pl.lit("}")
    )
    return joined, notes


def _released(change: pl.DataFrame, found: pl.DataFrame, facts: Facts) -> pl.DataFrame:
    """What waits for a person and gets one comes into use."""
    given = change.filter(pl.col("field") == "person_id").select("row")
    waiting = facts.devices.filter(pl.col("stage") == Stage.PARKED.value).select("device_id")
    rows = found.select("row", "device_id").join(given, on="row", how="semi")
    return rows.join(waiting, on="device_id", how="semi").select(
        "row",
        field=pl.lit("stage"),
        old=pl.lit(Stage.PARKED.value),
        new=pl.lit(Stage.ACTIVE.value),
    )


def _taken_back(found: pl.DataFrame, facts: Facts, choices: pl.DataFrame) -> list[pl.DataFrame]:
    """A retired device is awaited again, a report is cleared."""
    back = found.select("row", "device_id").join(
        choices.filter(pl.col("remedy") == Remedy.TAKE_BACK), on="row", how="semi"
    )
    back = back.join(facts.devices.select("device_id", "stage", "flagged"), on="device_id")
    retired, flagged = back.filter(pl.col("stage") == Stage.RETIRED.value), back.filter("flagged")
    return [
        retired.select(
            "row",
            field=pl.lit("stage"),
            old=pl.lit(Stage.RETIRED.value),
            new=pl.lit(Stage.AWAITED.value),
        ),
        flagged.select(
            "row", field=pl.lit("flag"), old=pl.lit("reported"), new=pl.lit(None, dtype=pl.String)
        ),
    ]


def severities(notes: pl.DataFrame) -> dict[str, int]:
    """How many notes there are of each severity."""
    found = dict(notes["code"].value_counts().iter_rows())
    return {
        s.value: sum(n for code, n in found.items() if CATALOGUE[code].severity is s)
        for s in Severity
    }


def change_pairs(changes: str) -> dict[str, tuple[str | None, str | None]]:
    """The JSON of a row's changes as field → (old, new)."""
    return {field: (pair["old"], pair["new"]) for field, pair in json.loads(changes).items()}
