"""Mails."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.vocabulary import MailState
from sortitor.schemas.base import Answer, Request, Time


class Mail(Answer):
    """A mail that waits, was sent, or could not be; its text is not shown."""

    id: int
    at: Time
    to_address: str
    to_name: str | None
    subject: str
    kind: str = Field(description="`code`, `pass`, `reminder` or `test`.")
    state: MailState
    tries: int
    next_try_at: Time | None
    can_be_tried: bool = Field(description="Whether it can be tried again: its words are kept.")
    sent_at: Time | None
    last_error: str | None = Field(description="What the mail server said when it was last tried.")


class MailTest(Request):
    """Send a test mail."""

    address: str = Field(min_length=3, max_length=254)
