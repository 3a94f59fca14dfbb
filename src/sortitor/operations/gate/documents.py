"""The gate as a document: checked against people and groups, previewed by its replay."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.gate import Gate, Remark, quota_said, remarks, statements
from sortitor.core.gate.concerned import Change, concerned
from sortitor.core.gate.facets import FIELDS
from sortitor.core.previews import Count, Example, plural
from sortitor.core.vocabulary import Facet, Outcome, SignInWay
from sortitor.core.words import LABELS
from sortitor.operations import quotas
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Wanted
from sortitor.operations.gate import replay
from sortitor.operations.sources import passwords
from sortitor.operations.terms import TERMS
from sortitor.store import arrivals, groups, people, tables
from sortitor.store import gate as store_gate
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection

GATE_ID = 1
_EXAMPLES = 50


class GateBook(DocumentKind[Gate]):
    """The gate as a document, of which there is one."""

    heavy = True

    def called(self, document: Gate) -> str:
        """There is only one."""
        return "the gate"

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Gate]) -> None:
        """Every group and person that a policy names is known."""
        assert wanted.proposed is not None
        problems = (
            *_unknown_names(connection, wanted.proposed),
            *_unanswerable(ctx, connection, wanted.proposed),
        )
        if problems:
            raise BadInput(
                code=problems[0].code,
                detail=problems[0].detail,
                remedy="Correct it, or make what is named first; nothing was saved.",
                problems=problems,
            )

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Gate]) -> Effect:
        """Whom of today's fleet and of the last weeks' arrivals the gate would meet otherwise, and
        who would be over quota.
        """
        assert wanted.former is not None
        assert wanted.proposed is not None
        current, proposed = wanted.former.document.on(ctx.today), wanted.proposed.on(ctx.today)
        replayed = replay.work_out(ctx, connection, current, proposed)
        declaring = arrivals.declaring(connection, ctx.now)
        said = [remark.detail for remark in remarks(wanted.proposed, ctx.today, declaring)]
        kinds = store_gate.people_kinds(connection, replayed.spoken)
        whom = concerned(current, proposed, replayed.spoken, kinds)
        over_before, over_after = quotas.over_each(connection, [current, proposed])
        newly = [over for name, over in over_after.items() if name not in over_before]
        examples = [
            *map(_for_whom, whom.changes),
            *map(_newly_over, newly),
            *replay.examples(connection, replayed),
        ]
        return Effect(
            counts=(
                _count("concerned", "people for whom something changes", whom.people, "good"),
                *_fleet_counts(replayed),
                *_arrival_counts(replayed),
                _count("over_quota", "people over their quota", len(over_after), "warn"),
            ),
            examples=tuple(examples[:_EXAMPLES]),
            examples_total=len(replayed.fleet.turns) + len(newly) + len(whom.changes),
            warnings=(
                "Nobody loses a device: the gate decides on devices that knock from now on.",
                *said,
            ),
            label="Save the gate",
            # Arrivals come by the minute; what is counted of them does not make a preview old.
            facts=[*(one.count for one in _fleet_counts(replayed)), sorted(over_after)],
        )


GATE = GateBook("gate", "gate", Shelf(Gate, tables.rulebooks))


def read(ctx: Context) -> Kept[Gate]:
    """The gate with its revision."""
    return GATE.one(ctx, GATE_ID)


def in_force(connection: Connection, today: date) -> Gate:
    """The gate as it decides today."""
    return GATE.find(connection, GATE_ID).document.on(today)


def check(ctx: Context, proposed: Gate) -> list[Remark]:
    """What is odd about a gate that is being edited: what nobody reaches, and what contradicts a
    pass. Raises BadInput for what cannot be saved.
    """
    proposed.check()
    with ctx.reading() as connection:
        return remarks(proposed, ctx.today, arrivals.declaring(connection, ctx.now))


def _unknown_names(connection: Connection, gate: Gate) -> Iterator[FieldProblem]:
    known = {row.name.casefold() for row in groups.every(connection)}
    named = {name for policy in gate.policies for name in policy.people or ()}
    there = people.present(connection, named)
    for place, policy in enumerate(gate.policies):
        for group in policy.groups or ():
            if group.casefold() not in known:
                detail = f"Policy {policy.name!r} is for the group {group!r}, which nobody is in."
                yield FieldProblem(f"/policies/{place}/groups", "unknown_group", detail)
        for person in policy.people or ():
            if person.casefold() not in there:
                detail = f"Policy {policy.name!r} is for {person!r}, which is nobody's user name."
                yield FieldProblem(f"/policies/{place}/people", "unknown_person", detail)


def _unanswerable(ctx: Context, connection: Connection, gate: Gate) -> Iterator[FieldProblem]:
    """What nobody could answer: terms that are not there, codes that cannot be mailed, passwords
    that no directory knows.
    """
    proves = bool(passwords.directories(connection))
    known = {kept.document.name.casefold() for kept in TERMS.shelf.every(connection)}
    for place, policy in enumerate(gate.policies):
        for statement in statements(policy):
            of = f"/platforms/{statement.platform}" if statement.platform else ""
            pointer = f"/policies/{place}{of}/{FIELDS[statement.facet]}"
            if statement.value is SignInWay.MAIL and not ctx.limits.sends_mail:
                detail = (
                    f"Policy {policy.name!r} asks for a code by mail, and no mail server is set."
                )
                yield FieldProblem(pointer, "mail_off", detail)
            if statement.value is SignInWay.DIRECTORY and not proves:
                detail = (
                    f"Policy {policy.name!r} asks for the directory's password, and no directory"
                    " lets its people sign in."
                )
                yield FieldProblem(pointer, "no_directory", detail)
            if statement.facet is not Facet.TERMS:
                continue
            for name in statement.value:
                if name.casefold() not in known:
                    detail = f"Policy {policy.name!r} asks for the terms {name!r}; there are none."
                    yield FieldProblem(pointer, "unknown_terms", detail)


def _for_whom(change: Change) -> Example:
    of = f", {change.platform.label}" if change.platform else ""
    return Example(
        subject=plural(change.people, "person", "people"),
        field=f"{LABELS[Facet][change.facet]}{of}",
        before=change.before,
        after=change.after,
        note=f"by “{change.policy}”" if change.policy else "",
    )


def _fleet_counts(replayed: replay.Replayed) -> tuple[Count, ...]:
    fleet = replayed.fleet
    refused, admitted = fleet.count(Outcome.REFUSED), fleet.count(Outcome.ADMITTED)
    return (
        _count("refused", "devices of today that would be refused at the door", refused, "warn"),
        _count("admitted", "devices of today that would no longer be refused", admitted, "good"),
    )


def _arrival_counts(replayed: replay.Replayed) -> Iterator[Count]:
    days = replayed.days
    for outcome, tone in (
        (Outcome.REFUSED, "warn"),
        (Outcome.PARKED, "warn"),
        (Outcome.ADMITTED, "good"),
    ):
        label = f"arrivals of the last {days} days that would have been {outcome}"
        yield _count(f"arrivals_{outcome}", label, replayed.arrivals.count(outcome), tone)


def _count(key: str, label: str, number: int, tone: str) -> Count:
    return Count(key, label, number, tone if number else "plain")


def _newly_over(over: quotas.Over) -> Example:
    return Example(
        subject=over.user_name,
        field="quota",
        before=plural(over.counted, "device"),
        after=f"at most {quota_said(over.quota, over.platform)}",
        note="keeps them; the next is refused",
    )
