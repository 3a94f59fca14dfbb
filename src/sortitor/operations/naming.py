"""Naming templates, and renaming the fleet by them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from sortitor.core.errors import FactsMoved, FieldProblem
from sortitor.core.filters import Filter
from sortitor.core.naming.compose import compose, compose_one
from sortitor.core.naming.facts import texts_of
from sortitor.core.naming.templates import Naming, Template, counts, shape
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Basis
from sortitor.operations.context import Context, require_digest
from sortitor.operations.documents import DocumentKind
from sortitor.operations.selections import resolve_selection, written_out
from sortitor.store import counters, tables
from sortitor.store import devices as store
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection

NAMING_ID = 2
#: How many candidates are tried for one arriving device, most of which are free at once.
_CANDIDATES = 100
_SAMPLES = 3
_PROBLEMS = {
    "too_long": "too long",
    "bad_characters": "characters not allowed",
    "colliding": "name in use",
}


class NamingBook(DocumentKind[Naming]):
    """The templates as a document, of which there is one."""

    def called(self, document: Naming) -> str:
        """There is only one."""
        return "the naming"


NAMING = NamingBook("naming", "naming", Shelf(Naming, tables.rulebooks))


def read(ctx: Context) -> tuple[Kept[Naming], dict[str, int]]:
    """The templates with their revision, and what their counters give next."""
    with ctx.reading() as connection:
        kept = NAMING.find(connection, NAMING_ID)
        return kept, _counters(connection, kept.document)


def _counters(connection: Connection, naming: Naming, lock: bool = False) -> dict[str, int]:
    numbers = counters.next_numbers(connection, lock)
    return {template.name: numbers.get(template.name, 1) for template in naming.templates}


@dataclass(frozen=True, slots=True)
class Sample:
    """What a template would call a device today; without a name, why."""

    device_id: int
    subject: str
    name: str | None
    problem: str


@dataclass(frozen=True, slots=True)
class Checked:
    """One template of a proposed naming: how many devices it is the first to fit, what it would
    call three of them, and what is wrong with it.
    """

    template: str
    devices: int
    samples: list[Sample]
    problems: list[FieldProblem]


def check(ctx: Context, proposed: Naming) -> list[Checked]:
    """Each template as it would be today, while it is written."""
    problems: dict[int, list[FieldProblem]] = {}
    for place, problem in proposed.problems():
        problems.setdefault(place, []).append(problem)
    if problems:
        # What a template does depends on those before it: nothing is shown of a naming with faults.
        return [
            Checked(template.name, 0, [], problems.get(place, []))
            for place, template in enumerate(proposed.templates)
        ]
    with ctx.reading() as connection:
        audiences = _audiences(ctx, connection, proposed)
        fitting = store.first_fitting(connection, proposed.templates, audiences, ctx.now)
        numbers = _counters(connection, proposed)
        return [
            Checked(
                template=template.name,
                devices=fitting.get(place, (0, []))[0],
                samples=_samples(
                    ctx,
                    connection,
                    template,
                    fitting.get(place, (0, []))[1][:_SAMPLES],
                    numbers[template.name],
                ),
                problems=[],
            )
            for place, template in enumerate(proposed.templates)
        ]


def _audiences(ctx: Context, connection: Connection, naming: Naming) -> list[Filter | None]:
    """Each template's filter, through the veil of whoever asks."""
    return [
        written_out(connection, ctx.veil.parse(template.devices)) if template.devices else None
        for template in naming.templates
    ]


def _samples(
    ctx: Context, connection: Connection, template: Template, ids: Sequence[int], number: int
) -> list[Sample]:
    if not ids:
        return []
    facts = store.naming_facts(connection, Selection(ids=tuple(ids)), ctx.now, template.fields)
    named = (
        compose(template, facts, next_number=number)
        .with_columns(pl.col("problem").fill_null(""))
        .join(facts.select("device_id", "serial", "ownership", old="name"), on="device_id")
    )
    if counts(template.pattern):
        # A number once given stays.
        stays = pl.col("old").str.contains(shape(template.pattern)).fill_null(value=False)
        named = named.with_columns(name=pl.when(stays).then("old").otherwise("name"))
    columns = ("device_id", "serial", "ownership", "old", "name", "problem")
    return [
        Sample(
            device_id=device_id,
            subject=ctx.veil.label(device_id, old, serial, ownership),
            name=ctx.veil.identifier(name, ownership),
            problem=_PROBLEMS.get(problem, problem.replace("lacking: ", "lacks "))
            if problem
            else "",
        )
        for device_id, serial, ownership, old, name, problem in named.select(*columns).iter_rows()
    ]


@dataclass(frozen=True, slots=True)
class _Plan:
    """A renaming: its preview, `device_id, name` of those renamed, and the templates' next numbers
    before it; those of them that go on by it, after it.
    """

    preview: Preview
    naming: Naming
    renamed: pl.DataFrame
    numbers: dict[str, int]
    next_numbers: dict[str, int]


def preview(ctx: Context, proposed: Naming | None, selection: Selection) -> Preview:
    """Old → new over a selection, by the proposed templates or those in force; what is shortened,
    too long, colliding or lacking.
    """
    with ctx.aside(as_now=True).reading() as connection:
        return _plan(ctx, connection, proposed, selection).preview


def _plan(
    ctx: Context, connection: Connection, proposed: Naming | None, selection: Selection
) -> _Plan:
    kept = NAMING.find(connection, NAMING_ID)
    naming = proposed or kept.document
    naming.check()
    chosen = resolve_selection(connection, selection)
    fields = frozenset[str]().union(*(template.fields for template in naming.templates))
    audiences = _audiences(ctx, connection, naming)
    facts = store.naming_facts(connection, chosen, ctx.now, fields, audiences)
    kept_by_hand = pl.col("name_basis").is_in([Basis.MANUAL.value, Basis.DECLARED.value])
    by_hand = facts.filter(kept_by_hand)
    facts = facts.join(by_hand.select("device_id"), on="device_id", how="anti")
    numbers = _counters(connection, naming)
    named, next_numbers = _named(
        naming=naming,
        numbers=numbers,
        facts=facts,
        taken=_FleetNames(connection),
    )
    old = facts.select("device_id", "serial", "ownership", old="name")
    named = named.join(old, on="device_id")
    renamed = named.filter(
        pl.col("name").is_not_null() & (pl.col("name") != pl.col("old").fill_null(""))
    )
    problems = named.filter(pl.col("problem").is_not_null())
    shown = Preview(
        title="Rename devices",
        apply_label=f"Rename {plural(renamed.height, 'device')}",
        counts=(
            *_tallied(facts.height, by_hand.height, renamed, problems),
            *_by_template(naming, renamed),
        ),
        examples=_examples(ctx, renamed, problems),
        examples_total=renamed.height + problems.height,
    )
    outcome = [kept.revision, naming.as_json(), renamed.select("device_id", "name").rows()]
    return _Plan(
        preview=sealed(shown, outcome),
        naming=naming,
        renamed=renamed.select("device_id", "name"),
        numbers=numbers,
        next_numbers=next_numbers,
    )


def _tallied(
    looked_at: int, by_hand: int, renamed: pl.DataFrame, problems: pl.DataFrame
) -> tuple[Count, ...]:
    shortened = renamed.filter("shortened").height
    found = [
        Count("renamed", "devices renamed", renamed.height, "good"),
        Count("same", "keep their name", looked_at - renamed.height - problems.height),
        Count("by_hand", "named by hand or by a lot, left alone", by_hand),
        Count("shortened", "shortened", shortened, "warn" if shortened else "plain"),
    ]
    for problem, number in problems["problem"].value_counts(sort=True).iter_rows():
        label = _PROBLEMS.get(problem, problem.replace("lacking: ", "lack "))
        found.append(Count(problem, label, number, "bad"))
    return tuple(found)


def _by_template(naming: Naming, renamed: pl.DataFrame) -> Iterator[Count]:
    """How many each template renames, where there are several."""
    numbers = dict(renamed["template"].value_counts().iter_rows())
    if len(naming.templates) > 1:
        for place, template in enumerate(naming.templates):
            if number := numbers.get(template.name):
                yield Count(f"template_{place}", f"by “{template.name}”", number)


def _examples(ctx: Context, renamed: pl.DataFrame, problems: pl.DataFrame) -> tuple[Example, ...]:
    columns = ("device_id", "serial", "ownership", "old", "name", "problem", "shortened")
    lines = pl.concat([problems.head(20), renamed.head(50)]).head(50).select(*columns)
    examples = []
    for device_id, serial, ownership, old, name, problem, short in lines.iter_rows():
        note = "shortened" if short else ""
        if problem:
            note = _PROBLEMS.get(problem, problem)
        examples.append(
            Example(
                subject=ctx.veil.label(device_id, None, serial, ownership),
                field="name",
                before=old,
                # A template can put an identifier into a name.
                after=ctx.veil.identifier(name, ownership),
                note=note,
                device_id=device_id,
            )
        )
    return tuple(examples)


class _FleetNames:
    """The names of the fleet, asked for as they are needed; `given` meanwhile, and `let_go` of."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._given, self._free = (pl.Series([], dtype=pl.String) for _ in range(2))

    def among(self, names: pl.Series) -> pl.Series:
        """Those of these names that are in use."""
        known = store.names_in_use(self._connection, names)
        kept = known.filter(~known.is_in(self._free.implode()))
        return pl.concat([kept, names.filter(names.is_in(self._given.implode()))])

    def highest(self, form: str) -> int:
        """The highest number in names of that form."""
        found = self._given.str.extract(form, 1).drop_nulls().cast(pl.Int64).max()
        return max(store.highest_in_names(self._connection, form), int(str(found or 0)))

    def give(self, names: pl.Series) -> None:
        """They are in use from now on."""
        self._given = pl.concat([self._given, names.drop_nulls().str.to_lowercase()])

    def let_go(self, names: pl.Series) -> None:
        """Their devices get others."""
        self._free = pl.concat([self._free, names.drop_nulls().str.to_lowercase()])


def _named(
    naming: Naming, numbers: Mapping[str, int], facts: pl.DataFrame, taken: _FleetNames
) -> tuple[pl.DataFrame, dict[str, int]]:
    """Names by the first template that fits each device, and where the counters stand
    afterwards.
    """
    parts, next_numbers, rest = [], {}, facts
    for place, template in enumerate(naming.templates):
        fits = _fitting(template, rest).filter(f"fits_{place}")
        rest = rest.join(fits.select("device_id"), on="device_id", how="anti")
        if counts(template.pattern):
            # A number once given stays: only a name of another shape, or none, takes a new one.
            has_its_shape = pl.col("name").str.contains(shape(template.pattern))
            fits = fits.filter(~has_its_shape.fill_null(False))
        else:
            # Their own present names do not stand in their way.
            taken.let_go(fits["name"])
        named = compose(template, fits, taken, numbers.get(template.name, 1))
        taken.give(named["name"])
        if (highest := named["number"].max()) is not None:
            next_numbers[template.name] = int(str(highest)) + 1
        parts.append(named.with_columns(template=pl.lit(template.name)))
    left = rest.select(
        "device_id",
        name=pl.lit(None, dtype=pl.String),
        number=pl.lit(None, dtype=pl.Int64),
        problem=pl.lit("no template"),
        shortened=pl.lit(False),
        template=pl.lit(None, dtype=pl.String),
    )
    return pl.concat([*parts, left]), next_numbers


def _fitting(template: Template, devices: pl.DataFrame) -> pl.DataFrame:
    if not template.platforms:
        return devices
    return devices.filter(pl.col("platform").is_in([p.value for p in template.platforms]))


def rename(ctx: Context, selection: Selection, digest: str, reason: str | None) -> Preview:
    """Rename a selection by the templates in force, as previewed."""
    with ctx.changing() as connection:
        plan = _plan(ctx, connection, None, selection)
        require_digest(plan.preview, digest)
        if plan.next_numbers:
            # Devices before counters: whoever arrives holds its device when it draws a number.
            store.hold(connection, plan.renamed["device_id"])
            numbers = _counters(connection, plan.naming, lock=True)
            if any(numbers[name] != plan.numbers[name] for name in plan.next_numbers):
                raise FactsMoved(_plan(ctx, connection, None, selection).preview)
        renamed = plan.renamed.height
        entry = ctx.record(
            connection,
            "device.rename",
            "devices",
            f"{plural(renamed, 'device')} renamed by template",
            reason=reason,
            after={"renamed": renamed},
        )
        if renamed:
            frame = plan.renamed.select("device_id", "name")
            store.patch_frame(connection, entry, frame, {"name_basis": Basis.INFERRED})
        counters.advance(connection, plan.next_numbers)
        return plan.preview


def name_for(
    ctx: Context,
    connection: Connection,
    naming: Naming,
    device_id: int | None,
    facts: Mapping[str, Any],
    *,
    is_sure: bool = True,
) -> str | None:
    """A name for one arriving device by the first template that fits its facts (attribute →
    value), or None if it gives none. Unless it `is_sure`, the name may be another device's, and
    the database refuses it then.
    """
    template = next((one for one in naming.templates if one.fits(facts)), None)
    if template is None:
        return None
    texts = texts_of(facts, {"platform", *template.fields})
    counting = counts(template.pattern)
    for _ in range(_CANDIDATES):
        number = _drawn(ctx, template) if counting else 1
        name = compose_one(template, texts, number)
        if name is None or not is_sure or store.name_is_free(connection, name, device_id):
            return name
        if not counting:
            return None
    return None


def _drawn(ctx: Context, template: Template) -> int:
    """The next number of a template. It is drawn for good: a device that is not let in after all
    leaves a gap, but thousands that arrive at once do not wait for each other's whole arrival.
    """
    with ctx.beside() as connection:
        return counters.draw(connection, template.name)
