"""Who has the word on each facet, for a person, a group or a device."""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.errors import BadInput
from sortitor.core.gate import Gate, Who, Winner, effective
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.gate.documents import in_force
from sortitor.operations.gate.trial import declared_facts, real_device
from sortitor.store import groups, people
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class Effective:
    """The policies that hold somebody or something, in order, and each facet's word."""

    subject: str
    policies: list[str]
    statements: list[Winner]


def effective_for(
    ctx: Context,
    person: str | None,
    group: str | None,
    device: str | None,
    proposed: Gate | None,
) -> Effective:
    """The gate as it is (or as proposed) for a person, a group, a device, or a person with a
    device; with none of them, for a stranger.
    """
    if person and group:
        raise BadInput(
            "person_and_group",
            "A person brings their own groups.",
            "Name the person or the group.",
        )
    with ctx.reading() as connection:
        if proposed is not None:
            proposed.check()
        subject, who = _who(ctx, connection, person, group, device)
        rules = proposed.on(ctx.today) if proposed else in_force(connection, ctx.today)
        audience = rules.audience(who)
        return Effective(subject, [policy.name for policy in audience], effective(audience))


def _who(
    ctx: Context, connection: Connection, person: str | None, group: str | None, device: str | None
) -> tuple[str, Who]:
    names, belongs, user_name, facts = [], frozenset[str](), None, None
    if person:
        found = or_not_found(people.by_name(connection, person), "person", person)
        names.append(found.name)
        belongs, user_name = frozenset(found.groups), found.user_name
    if group:
        known = or_not_found(groups.by_name(connection, group), "group", group)
        names.append(f"somebody in {known.name}")
        belongs = frozenset({known.name})
    if device:
        real = or_not_found(real_device(connection, device), "device", device)
        names.append(real.label)
        facts = declared_facts(ctx, connection, real)
    return " with ".join(names) or "a stranger", Who(belongs, user_name, facts)
