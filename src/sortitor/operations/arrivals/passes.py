"""Passes: made for anybody, for one person, or for each of many; mailed, reminded of, revoked."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sortitor.core import mails as core_mails
from sortitor.core import passes as core
from sortitor.core.errors import BadInput, Conflict, FieldProblem, NotFound
from sortitor.core.passes import PassTerms
from sortitor.core.previews import plural
from sortitor.core.vocabulary import SignInWay
from sortitor.operations import mail
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.sources import passwords
from sortitor.store import arrivals as store
from sortitor.store import cohorts, groups, mails, people
from sortitor.store.arrivals import PassRow, PassUse
from sortitor.store.engine import Connection
from sortitor.store.people import PersonRow

#: For so many people passes are made in one action.
MOST_PEOPLE = 5_000


@dataclass(frozen=True, slots=True)
class Made:
    """A pass that was just made; its code is revealed this once."""

    id: int
    code: str
    person: PersonRow | None


def add(ctx: Context, terms: PassTerms, passcode: str | None = None, mailed: bool = False) -> Made:
    """A new pass; mailed to its person, where that is asked for."""
    terms.check()
    if mailed and not terms.person:
        raise BadInput(
            "nobody_to_mail",
            "A pass is mailed to the person it is for, and it names nobody.",
            "Name the person, or hand the pass out yourself.",
        )
    with ctx.changing() as connection:
        _check_places(connection, terms)
        person = None
        if terms.person:
            person = or_not_found(people.by_name(connection, terms.person), "person", terms.person)
        made = _make(ctx, connection, terms, passcode, [person], mailed)[0]
        ctx.record(
            connection,
            "pass.add",
            "pass",
            f"Pass “{terms.label}” made{' and mailed' if mailed else ''}",
            subject_id=made.id,
            after=terms.as_json(),
        )
    return made


def add_for_people(
    ctx: Context,
    terms: PassTerms,
    names: Sequence[str],
    group: str | None,
    passcode: str | None = None,
    mailed: bool = True,
) -> list[Made]:
    """A pass for each of these people, or for everybody in a group, each for that person alone."""
    terms.check()
    with ctx.changing() as connection:
        _check_places(connection, terms)
        found = _in_group(connection, group) if group else _named(connection, names)
        if not found:
            raise BadInput(
                "nobody", "There is nobody to make a pass for.", "Name people or a group."
            )
        if mailed:
            _require_addresses(found)
        made = _make(ctx, connection, terms, passcode, found, mailed)
        store.make_batch(connection, [one.id for one in made])
        whom = f"everybody in {group}" if group else "a list of people"
        ctx.record(
            connection,
            "pass.add",
            "pass",
            f"“{terms.label}”: a pass each for {whom} ({len(made):,})"
            f"{', mailed' if mailed else ''}",
            subject_id=made[0].id,
            after={**terms.as_json(), "people": [one.user_name for one in found]},
        )
    return made


def _in_group(connection: Connection, group: str) -> list[PersonRow]:
    known = or_not_found(groups.by_name(connection, group), "group", group)
    found = people.page(connection, None, known.name, None, MOST_PEOPLE + 1)
    if len(found) > MOST_PEOPLE:
        raise BadInput(
            "too_many",
            f"More than {MOST_PEOPLE:,} people are in {known.name}.",
            "Make passes for smaller groups.",
        )
    return [one for one in found if one.left_at is None]


def _named(connection: Connection, names: Sequence[str]) -> list[PersonRow]:
    found = people.by_names(connection, names)
    known = {name.lower() for one in found for name in (one.user_name, one.mail) if name}
    problems = tuple(
        FieldProblem(f"/people/{place}", "unknown_person", f"There is no person {name}.")
        for place, name in enumerate(names)
        if name.strip().lower() not in known
    )
    if problems:
        remedy = "Correct the list; no pass was made."
        raise BadInput("unknown_person", problems[0].detail, remedy, problems)
    return found


def _require_addresses(found: Sequence[PersonRow]) -> None:
    without = [one.name for one in found if not one.mail]
    if without:
        listed = ", ".join(without[:5]) + (" …" if len(without) > 5 else "")
        raise Conflict(
            "no_address",
            f"No mail address is known of {listed} ({len(without):,} in all).",
            "Add their addresses, leave them out, or make the passes without mail.",
        )


def _check_places(connection: Connection, terms: PassTerms) -> None:
    named = [("/cohort", terms.cohort)] if terms.cohort else []
    for place, one in enumerate(terms.cohort_by_group):
        named.append((f"/cohort_by_group/{place}/cohort", one.cohort))
    for pointer, name in named:
        if cohorts.list_called(connection, name or "") is None:
            detail = f"There is no list {name!r}; devices join a list, not a cohort by filter."
            problem = FieldProblem(pointer, "no_list", detail)
            raise BadInput("no_list", detail, "Make the list first.", (problem,))


def _make(
    ctx: Context,
    connection: Connection,
    terms: PassTerms,
    passcode: str | None,
    whom: Sequence[PersonRow | None],
    mailed: bool,
) -> list[Made]:
    if mailed or terms.sign_in is SignInWay.MAIL:
        mail.require_mail(ctx)
    if terms.sign_in is SignInWay.DIRECTORY:
        passwords.require_directory(connection)
    valid_from, valid_until = terms.validity(ctx.now)
    hashed = core.hash_passcode(passcode) if passcode else None
    codes = [core.new_code(secrets.choice) for _ in whom]
    lines = [
        {
            "code_hash": core.hash_code(code),
            "document": {**terms.as_json(), "person": person.user_name if person else None},
            "person_id": person.id if person else None,
            "valid_from": valid_from,
            "valid_until": valid_until,
            "max_uses": terms.max_uses,
            "created_by": ctx.actor.name,
            "created_at": ctx.now,
            "passcode_hash": hashed,
            "mailed_at": ctx.now if mailed else None,
        }
        for person, code in zip(whom, codes, strict=True)
    ]
    numbers = store.add_passes(connection, lines)
    made = [Made(*one) for one in zip(numbers, codes, whom, strict=True)]
    if mailed:
        mails.put(connection, [_mail(ctx, terms, one, valid_until) for one in made])
    return made


def _mail(ctx: Context, terms: PassTerms, made: Made, until: datetime) -> dict[str, Any]:
    person = made.person
    assert person is not None
    if not person.mail:
        _require_addresses([person])
    address = f"{ctx.limits.public_url}/welcome#{made.code}"
    words = core_mails.pass_mail(person.name, terms.label, core.shown(made.code), address, until)
    return mail.line(
        ctx,
        "pass",
        core_mails.check_address(person.mail or ""),
        words,
        to_name=person.name,
        person_id=person.id,
        pass_id=made.id,
        life=until - ctx.now,
    )


def revoke(ctx: Context, pass_id: int, whole_batch: bool, reason: str | None) -> int:
    """End a pass at once, or all that were made with it; gives how many. Mails of theirs that wait
    are not sent.
    """
    with ctx.changing() as connection:
        ended = store.revoke_passes(connection, pass_id, whole_batch, ctx.now)
        if not ended:
            raise NotFound("living pass", pass_id)
        numbers = [one.id for one in ended]
        mails.drop_of_passes(connection, numbers)
        others = f" and {len(ended) - 1:,} made with it" if len(ended) > 1 else ""
        ctx.record(
            connection,
            "pass.revoke",
            "pass",
            f"Pass “{ended[0].label}”{others} revoked",
            subject_id=pass_id,
            reason=reason,
            after={"passes": numbers},
        )
        return len(ended)


def remind(ctx: Context, pass_id: int) -> int:
    """Mail those of a batch who have not used their pass; gives how many."""
    mail.require_mail(ctx)
    with ctx.changing() as connection:
        first = or_not_found(store.one_pass(connection, pass_id), "pass", pass_id)
        lines = [
            _reminder(ctx, first.terms.label, row)
            for row in store.unused(connection, first.batch or first.id, ctx.now)
            if row.mail
        ]
        mails.put(connection, lines)
        ctx.record(
            connection,
            "pass.remind",
            "pass",
            f"Reminded of the pass “{first.terms.label}”: {plural(len(lines), 'mail')}",
            subject_id=pass_id,
        )
        return len(lines)


def _reminder(ctx: Context, label: str, row: store.UnusedRow) -> dict[str, Any]:
    address = row.mail or ""
    words = core_mails.reminder_mail(row.person_name or address, label, row.valid_until)
    return mail.line(
        ctx,
        "reminder",
        address,
        words,
        to_name=row.person_name,
        person_id=row.person_id,
        pass_id=row.id,
        life=row.valid_until - ctx.now,
    )


def every(ctx: Context, before: int | None, limit: int) -> list[PassRow]:
    """Passes, newest first; of those made in one action the first, with how many there are."""
    with ctx.reading() as connection:
        return store.pass_page(connection, before, limit)


def one(ctx: Context, pass_id: int) -> PassRow:
    """One pass."""
    with ctx.reading() as connection:
        return or_not_found(store.one_pass(connection, pass_id), "pass", pass_id)


def uses(ctx: Context, pass_id: int) -> list[PassUse]:
    """Who has a pass of this batch, whether it was mailed and used, and with which device."""
    with ctx.reading() as connection:
        first = or_not_found(store.one_pass(connection, pass_id), "pass", pass_id)
        return store.uses_of(connection, first.batch or first.id)
