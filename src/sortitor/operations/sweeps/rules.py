"""Sweep rules as documents, and whom they watch."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from sortitor.core.filters import parse
from sortitor.core.previews import Count, plural
from sortitor.core.selection import Selection
from sortitor.core.sweeps import Rule, watching
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Wanted
from sortitor.operations.selections import resolve_selection
from sortitor.store import erasing, tables
from sortitor.store import sweeps as store
from sortitor.store.documents import Shelf
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class IdleDays:
    """Idle days of everyone that a rule watches: `(idle days, devices, of them on hold)`.

    `kept`: idle days → how many of the others a rule with a longer window leaves in use still.
    """

    counts: list[tuple[int, int, int]]
    kept: Mapping[int, int] = field(default_factory=dict)

    @classmethod
    def of(cls, idle: Mapping[tuple[int, bool], int]) -> IdleDays:
        """From (idle days, held) → devices."""
        days = sorted({days for days, _ in idle})
        return cls(
            [
                (d, idle.get((d, False), 0) + idle.get((d, True), 0), idle.get((d, True), 0))
                for d in days
            ]
        )

    @property
    def watched(self) -> int:
        """How many devices there are."""
        return sum(number for _, number, _ in self.counts)

    def past(self, days: int) -> int:
        """How many are idle for so many days or more, and on no hold."""
        return sum(number - on_hold for idle, number, on_hold in self.counts if idle >= days)

    def left(self, days: int) -> int:
        """How many of these another rule leaves in use."""
        return sum(number for idle, number in self.kept.items() if idle >= days)

    def on_hold(self, days: int) -> int:
        """How many of those idle for so many days or more are on hold."""
        return sum(on_hold for idle, _, on_hold in self.counts if idle >= days)


class Rules(DocumentKind[Rule]):
    """Sweep rules as documents."""

    heavy = True

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Rule]) -> None:
        """The window is within the installation's bounds."""
        if wanted.proposed is not None:
            wanted.proposed.check_window(ctx.limits.idle_window_days)

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Rule]) -> Effect:
        """Whom the rule would watch, and how many are past its window already."""
        if wanted.proposed is None:
            return Effect(warnings=("Its runs stay in the list of sweeps.",))
        window = wanted.proposed.idle_window_days
        idle = idle_days(ctx, connection, wanted.proposed, wanted.number)
        counts = [
            Count("watched", "devices watched", idle.watched),
            Count("past", "of them past the window now", idle.past(window), "warn"),
        ]
        if left := idle.left(window):
            counts.append(Count("left", "of these left in use by a longer rule", left))
        if wanted.former is not None:
            former = wanted.former.document
            before = idle_days(ctx, connection, former, wanted.number)
            counts += [
                Count("watched_before", "watched before", before.watched),
                Count("past_before", "past it before", before.past(former.idle_window_days)),
            ]
        warnings = ["Nothing is retired by saving it."]
        if days := wanted.proposed.retention_days:
            gone = len(erasable(ctx, connection, wanted.proposed))
            counts.append(Count("erasable", "retired devices to erase", gone, "warn"))
            warnings.append(
                f"Its runs erase a device {plural(days, 'day')} after it was retired, for ever."
            )
        return Effect(
            counts=tuple(counts),
            warnings=tuple(warnings),
            facts=[count.count for count in counts],
        )


RULES = Rules("sweep rule", "rule", Shelf(Rule, tables.sweep_rules), short="rule")


def watched(connection: Connection, rule: Rule) -> Selection:
    """The devices that a rule looks at."""
    return resolve_selection(connection, Selection(filter=watching(rule)))


def idle_days(ctx: Context, connection: Connection, rule: Rule, number: int | None) -> IdleDays:
    """Idle days of everyone that a rule watches, beside the other rules. `number`: its own, where
    it is saved.
    """
    others = [
        (watched(connection, kept.document), kept.document.idle_window_days)
        for kept in RULES.shelf.every(connection)
        if kept.id != number
    ]
    found = store.idle_counts(connection, watched(connection, rule), others, ctx.now)
    return IdleDays(
        [(idle, number, held) for idle, number, held, _ in found],
        {idle: kept for idle, _, _, kept in found},
    )


def look(ctx: Context, rule: Rule) -> IdleDays:
    """Idle days of everyone that a rule, saved or not, watches."""
    rule.check()
    with ctx.aside(as_now=True).reading() as connection:
        return idle_days(ctx, connection, rule, RULES.shelf.number_of(connection, rule.name))


def whoever(connection: Connection, rule: Rule) -> Selection:
    """The devices that a rule is about, whatever their stage."""
    return resolve_selection(connection, Selection(filter=parse(rule.filter or "id pr")))


def erasable(ctx: Context, connection: Connection, rule: Rule) -> list[int]:
    """The retired devices for which the retention of a rule, saved or not, is over. Of several
    rules the one with the longest window counts here too.
    """
    if not rule.retention_days:
        return []
    longer = [
        whoever(connection, other.document)
        for other in RULES.shelf.every(connection)
        if other.document.idle_window_days > rule.idle_window_days
    ]
    about, days = whoever(connection, rule), rule.retention_days
    return erasing.due(connection, about, longer, days, ctx.today, ctx.now)
