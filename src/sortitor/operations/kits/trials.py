"""Trying an account before devices get it: from here, with a name and a password that nobody
keeps.
"""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.errors import SourceFault
from sortitor.core.kits.items import AccountPayload
from sortitor.operations.context import Context


@dataclass(frozen=True, slots=True)
class Trial:
    """Whether somebody can sign in, in words, and what to do where not."""

    ok: bool
    words: str
    remedy: str


def try_account(ctx: Context, account: AccountPayload, user: str, password: str) -> Trial:
    """Sign in once. The journal tells that it was tried, where and as whom."""
    try:
        ctx.outside.sign_in(account, user, password)
    except SourceFault as fault:
        found = Trial(False, fault.detail, fault.remedy)
    else:
        open_words = "" if account.tls else " The password goes over the line in clear."
        found = Trial(True, f"Signed in at {account.server}.{open_words}", "")
    with ctx.changing() as connection:
        outcome = "signed in" if found.ok else "not signed in"
        words = f"{account.service.capitalize()} at {account.server} tried: {outcome}"
        ctx.record(connection, "account.trial", "item", words, after={"user": user})
    return found
