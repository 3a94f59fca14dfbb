"""Mails about devices that will be retired: to their people, and to the contacts of their sites."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, timedelta

from sortitor.core.ends import Told
from sortitor.core.notices import notice_mail
from sortitor.core.selection import Selection
from sortitor.core.sweeps import Rule
from sortitor.operations import mail
from sortitor.operations.context import Context
from sortitor.store import ends, mails
from sortitor.store import sweeps as store
from sortitor.store.engine import Connection
from sortitor.store.sweeps import NoticedRow

Noticed = tuple[NoticedRow, date]


def tell(
    ctx: Context,
    connection: Connection,
    rule: Rule,
    noticed: Iterable[Noticed],
    again: bool = False,
) -> None:
    """Put one mail for each person and contact into the outbox, about all of their devices; nothing
    where no mail server is set.
    """
    if not ctx.limits.sends_mail:
        return
    lines: dict[tuple[str, int | None], list[tuple[str, int, date]]] = {}
    for row, day in noticed:
        told = (row.label, row.idle, day)
        if row.person_mail:
            lines.setdefault((row.person_mail, row.person_id), []).append(told)
        for address in rule.contacts_of(row.site):
            lines.setdefault((address, None), []).append(told)
    letters = [
        mail.line(
            ctx,
            "retirement",
            address,
            notice_mail(of_them, ctx.limits.public_url, again),
            person_id=person_id,
            life=timedelta(days=3),
        )
        for (address, person_id), of_them in lines.items()
    ]
    if letters:
        mails.put(connection, letters)


def remind(ctx: Context, connection: Connection, rule: Rule, watched: Selection) -> None:
    """Tell once more, so many days before, of what a rule is about to retire; each device once."""
    if not rule.remind_days:
        return
    first, last = ctx.today + timedelta(1), ctx.today + timedelta(rule.remind_days)
    near = {
        Told(f"retirement-{row.id}", row.retire_on, rule.remind_days): row
        for row in store.noticed(connection, watched, ctx.now, first, last)
        if row.retire_on is not None
    }
    fresh = ends.tell(connection, list(near), ctx.now)
    tell(ctx, connection, rule, [(near[one], one.ends_on) for one in near if one in fresh], True)
