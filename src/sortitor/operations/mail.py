"""Mail: put into the outbox with the change that asks for it, sent by the worker once that is
committed. A change that is rolled back sends nothing; a mail server that is away loses nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Protocol

from sortitor.core import mails as core
from sortitor.core.errors import Conflict
from sortitor.core.mails import Letter
from sortitor.core.vocabulary import MailState
from sortitor.operations.context import Context, or_not_found
from sortitor.store import mails as store
from sortitor.store.mails import MailRow as MailRow

#: Mails that hold a secret, whose words go once they are sent.
_SECRET = {"code", "pass"}
#: After so many seconds it is tried again, longer each time; then it has failed.
_PAUSES = (10, 60, 300, 900, 3_600, 3 * 3_600, 12 * 3_600, 24 * 3_600)


class Undelivered(Exception):
    """A mail that was not taken; told on the mail, to nobody who waits. `for_good`: trying again
    does not help.
    """

    def __init__(self, detail: str, for_good: bool) -> None:
        super().__init__(detail)
        self.detail = detail
        self.for_good = for_good


class Postman(Protocol):
    """Whoever carries a mail to the mail server."""

    def deliver(self, letter: Letter) -> None:
        """Hand it over. Raises Undelivered."""


def require_mail(ctx: Context) -> None:
    """Raise Conflict where no mail server is set."""
    if not ctx.limits.sends_mail:
        raise Conflict(
            "mail_off",
            "No mail server is set, so no mail can be sent.",
            "An administrator sets SORTITOR_MAIL_HOST and SORTITOR_MAIL_FROM.",
        )


def line(
    ctx: Context,
    kind: str,
    to_address: str,
    words: tuple[str, str],
    *,
    to_name: str | None = None,
    person_id: int | None = None,
    pass_id: int | None = None,
    life: timedelta | None = None,
) -> dict[str, Any]:
    """A mail for the outbox; with a `life` it is not sent once that is over."""
    wall = ctx.clock.wall()
    return {
        "at": ctx.now,
        "to_address": to_address,
        "to_name": to_name,
        "subject": words[0],
        "body": words[1],
        "kind": kind,
        "person_id": person_id,
        "pass_id": pass_id,
        "next_try_at": wall,
        "useless_at": wall + life if life else None,
    }


@dataclass(frozen=True, slots=True)
class Tried:
    """What became of a mail that was tried, for the log: no address, no words of it."""

    mail_id: int
    kind: str
    state: MailState
    tries: int
    reason: str | None


def send_due(ctx: Context, postman: Postman) -> Iterator[Tried]:
    """Send what waits and whose time has come, one by one, each in a transaction of its own."""
    while (tried := _send_one(ctx, postman)) is not None:
        yield tried


def _send_one(ctx: Context, postman: Postman) -> Tried | None:
    wall = ctx.clock.wall()
    with ctx.bookkeeping() as connection:
        mail = store.next_due(connection, wall)
        if mail is None:
            return None
        became = _delivered(mail, postman, wall)
        store.change(connection, mail.id, became)
    return Tried(
        mail_id=mail.id,
        kind=mail.kind,
        state=became.get("state", MailState.WAITING),
        tries=became.get("tries", mail.tries),
        reason=became.get("last_error"),
    )


def _delivered(mail: MailRow, postman: Postman, wall: datetime) -> dict[str, Any]:
    """What becomes of a mail that is tried now."""
    if mail.useless_at is not None and wall >= mail.useless_at:
        return {"state": MailState.DROPPED, "body": None, "last_error": mail.last_error}
    letter = Letter(mail.id, mail.to_address, mail.to_name, mail.subject, mail.body or "")
    try:
        postman.deliver(letter)
    except Undelivered as problem:
        return _tried(mail, problem, wall)
    except Exception as error:  # noqa: BLE001 - whatever is wrong with one mail, the others go on
        return _tried(mail, Undelivered(repr(error), for_good=False), wall)
    sent = {"state": MailState.SENT, "sent_at": wall, "tries": mail.tries + 1, "last_error": None}
    return {**sent, **_without_secret(mail)}


def _without_secret(mail: MailRow) -> dict[str, Any]:
    """A mail that needs its words no longer."""
    if mail.kind not in _SECRET:
        return {}
    return {"body": None, "subject": _kept_subject(mail)}


def _kept_subject(mail: MailRow) -> str:
    return "A one-time code" if mail.kind == "code" else mail.subject


def _tried(mail: MailRow, problem: Undelivered, wall: datetime) -> dict[str, Any]:
    tries = mail.tries + 1
    told = {"tries": tries, "last_error": problem.detail[:500]}
    if problem.for_good or tries > len(_PAUSES):
        return {**told, "state": MailState.FAILED, **_without_secret(mail)}
    return {**told, "next_try_at": wall + timedelta(seconds=_PAUSES[tries - 1])}


def send_test(ctx: Context, address: str) -> None:
    """A mail to this address, to see that mails go out."""
    require_mail(ctx)
    found = core.check_address(address)
    with ctx.changing() as connection:
        store.put(connection, [line(ctx, "test", found, core.test_mail())])
        ctx.record(connection, "mail.test", "mail", f"Test mail to {found}")


def page(ctx: Context, state: MailState | None, before: int | None, limit: int) -> list[MailRow]:
    """Mails, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, state, before, limit)


def try_again(ctx: Context, mail_id: int) -> None:
    """Try a mail that waits or has failed at once."""
    require_mail(ctx)
    with ctx.changing() as connection:
        mail = or_not_found(store.one(connection, mail_id, lock=True), "mail", mail_id)
        if not mail.can_be_tried:
            raise Conflict(
                "not_again", f"Mail {mail_id} cannot be sent again.", "Ask for a new one."
            )
        wall = ctx.clock.wall()
        store.change(connection, mail_id, {"state": MailState.WAITING, "next_try_at": wall})
        ctx.record(connection, "mail.again", "mail", f"Mail {mail_id} to {mail.to_address} again")
