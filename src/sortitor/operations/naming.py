"""Naming templates, and renaming the fleet by them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

import polars as pl
from sqlalchemy import Connection

from sortitor.core import naming as core
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Basis, Platform
from sortitor.operations.context import Context, must_match
from sortitor.operations.selections import meant
from sortitor.store import devices as store
from sortitor.store import rulebooks

BOOK = "naming"
_PROBLEMS = {
    "too_long": "too long",
    "bad_characters": "characters not allowed",
    "colliding": "name in use",
}


def templates(connection: Connection) -> tuple[int, list[core.Template]]:
    """The revision and the templates with their counters."""
    book = rulebooks.read(connection, BOOK)
    if book is None:
        documents, revision = [as_document(t) for t in core.starting_templates()], 0
    else:
        revision, documents = book
    numbers = rulebooks.next_numbers(connection)
    return revision, [from_document(d, numbers.get(d["name"], 1)) for d in documents]


def as_document(template: core.Template) -> dict[str, Any]:
    """A template as JSON, without its counter."""
    return {
        "name": template.name,
        "pattern": template.pattern,
        "platforms": list(template.platforms),
    }


def from_document(document: Mapping[str, Any], next_number: int = 1) -> core.Template:
    """A template from JSON."""
    return core.Template(
        document["name"],
        document["pattern"],
        tuple(map(Platform, document["platforms"])),
        next_number,
    )


def read(ctx: Context) -> tuple[int, list[core.Template]]:
    """The revision and the templates."""
    with ctx.reading() as connection:
        return templates(connection)


def _check(proposed: Sequence[core.Template]) -> None:
    if not proposed:
        raise BadInput("no_templates", "There must be at least one template.", "Add one.")
    names = [t.name.casefold() for t in proposed]
    for place, template in enumerate(proposed):
        try:
            core.parse(template.pattern)
        except BadInput as error:
            raise BadInput(
                error.code,
                f"Template {template.name!r}: {error.detail}",
                error.remedy,
                (FieldProblem(f"/templates/{place}/pattern", error.code, error.detail),),
            ) from error
        if names.index(template.name.casefold()) != place:
            raise BadInput(
                "template_taken",
                f"Two templates are called {template.name!r}.",
                "Give each its own name.",
            )


def preview(
    ctx: Context, proposed: Sequence[core.Template] | None, selection: Selection
) -> Preview:
    """Old → new over a selection, by the proposed templates or those in force; what is shortened,
    too long, colliding or lacking.
    """
    with ctx.reading() as connection:
        return _plan(ctx, connection, proposed, selection)[0]


def _plan(
    ctx: Context,
    connection: Connection,
    proposed: Sequence[core.Template] | None,
    selection: Selection,
) -> tuple[Preview, pl.DataFrame, dict[str, int]]:
    revision, current = templates(connection)
    used = list(proposed) if proposed is not None else current
    _check(used)
    numbers = {t.name: t.next_number for t in current}
    used = [core.Template(t.name, t.pattern, t.platforms, numbers.get(t.name, 1)) for t in used]
    facts = store.naming_facts(connection, meant(connection, selection), ctx.now)
    by_hand = facts.filter(pl.col("name_basis").is_in([Basis.MANUAL.value, Basis.DECLARED.value]))
    facts = facts.join(by_hand.select("device_id"), on="device_id", how="anti")
    named, next_numbers = _named(used, facts, store.names_in_use(connection))
    named = named.join(
        facts.select("device_id", "name", "serial").rename({"name": "old"}), on="device_id"
    )
    renamed = named.filter(
        pl.col("name").is_not_null() & (pl.col("name") != pl.col("old").fill_null(""))
    )
    problems = named.filter(pl.col("problem").is_not_null())
    shortened = renamed.filter("shortened").height
    counts = [
        Count("renamed", "devices renamed", renamed.height, "good"),
        Count("same", "keep their name", facts.height - renamed.height - problems.height),
        Count("by_hand", "named by hand or by a lot, left alone", by_hand.height),
        Count("shortened", "shortened", shortened, "warn" if shortened else "plain"),
    ]
    for problem, number in problems["problem"].value_counts(sort=True).iter_rows():
        counts.append(
            Count(
                problem,
                _PROBLEMS.get(problem, problem.replace("lacking: ", "lack ")),
                number,
                "bad",
            )
        )
    lines = pl.concat([problems.head(20), renamed.head(50)]).head(50)
    examples = tuple(
        Example(
            serial or f"device {device_id}",
            "name",
            old,
            name,
            _PROBLEMS.get(problem or "", problem or "") or ("shortened" if short else ""),
            device_id,
        )
        for device_id, serial, old, name, problem, short in lines.select(
            "device_id", "serial", "old", "name", "problem", "shortened"
        ).iter_rows()
    )
    shown = Preview(
        "Rename devices",
        f"Rename {plural(renamed.height, 'device')}",
        tuple(counts),
        examples,
        renamed.height + problems.height,
    )
    outcome = [revision, [as_document(t) for t in used], renamed.select("device_id", "name").rows()]
    return sealed(shown, outcome), renamed, next_numbers


def _named(
    used: Sequence[core.Template], facts: pl.DataFrame, taken: set[str]
) -> tuple[pl.DataFrame, dict[str, int]]:
    """Names by the first template that fits each device, and where the counters stand
    afterwards.
    """
    parts, numbers, rest = [], {}, facts
    for template in used:
        fits = (
            rest.filter(pl.col("platform").is_in([p.value for p in template.platforms]))
            if template.platforms
            else rest
        )
        rest = rest.join(fits.select("device_id"), on="device_id", how="anti")
        if core.counts(template.pattern):
            # A number once given stays: only a name of another shape, or none, takes a new one.
            fits = fits.filter(
                ~pl.col("name").str.contains(core.shape(template.pattern)).fill_null(False)
            )
        else:
            # Their own present names do not stand in their way.
            taken = taken - set(fits["name"].drop_nulls().str.to_lowercase())
        named = core.compose(template, fits, taken)
        taken = taken | set(named["name"].drop_nulls().str.to_lowercase())
        if (highest := named["number"].max()) is not None:
            numbers[template.name] = int(str(highest)) + 1
        parts.append(named)
    left = rest.select(
        "device_id",
        name=pl.lit(None, dtype=pl.String),
        number=pl.lit(None, dtype=pl.Int64),
        problem=pl.lit("no template"),
        shortened=pl.lit(False),
    )
    return pl.concat([*parts, left]), numbers


def apply(ctx: Context, proposed: Sequence[core.Template], reason: str | None) -> int:
    """Save the templates for the devices to come; nothing is renamed. Gives the revision."""
    with ctx.changing() as connection:
        _check(proposed)
        rulebooks.read(connection, BOOK, lock=True)
        revision, current = templates(connection)
        rulebooks.write(connection, BOOK, [as_document(t) for t in proposed])
        ctx.record(
            connection,
            "naming.apply",
            BOOK,
            f"Naming saved with {plural(len(proposed), 'template')}",
            reason=reason,
            before=[as_document(t) for t in current],
            after=[as_document(t) for t in proposed],
        )
        return revision + 1


def rename(ctx: Context, selection: Selection, digest: str, reason: str | None) -> Preview:
    """Rename a selection by the templates in force, as previewed."""
    with ctx.changing() as connection:
        rulebooks.next_numbers(connection, lock=True)
        shown, renamed, numbers = _plan(ctx, connection, None, selection)
        must_match(shown, digest)
        entry = ctx.record(
            connection,
            "device.rename",
            "devices",
            f"{plural(renamed.height, 'device')} renamed by template",
            reason=reason,
            after={"renamed": renamed.height},
        )
        if renamed.height:
            patch = pl.struct("name", name_basis=pl.lit(Basis.INFERRED.value)).struct.json_encode()
            store.apply_patches(connection, entry, renamed.select("device_id", patch=patch))
        rulebooks.advance_counters(connection, numbers)
        return shown


def name_for(connection: Connection, device_id: int, now: datetime) -> str | None:
    """A name for one arriving device by the first template that fits, or None if it gives none;
    counts the counter on.
    """
    facts = store.naming_facts(connection, Selection(ids=(device_id,)), now)
    _, current = templates(connection)
    template = next((t for t in current if t.fits(facts["platform"][0])), None)
    if template is None:
        return None
    counting = core.counts(template.pattern)
    number = rulebooks.lock_counter(connection, template.name) if counting else 1
    template = core.Template(template.name, template.pattern, template.platforms, number)
    # Most candidates are free at once, so the names in use are asked for a few at a time.
    for _ in range(100):
        named = core.compose(template, facts, ())
        name = named["name"][0]
        if counting:
            rulebooks.advance_counters(connection, {template.name: named["number"][0] + 1})
        if name is None or store.name_is_free(connection, name, device_id):
            return str(name) if name is not None else None
        if not counting:
            return None
        template = core.Template(
            template.name, template.pattern, template.platforms, named["number"][0] + 1
        )
    return None
