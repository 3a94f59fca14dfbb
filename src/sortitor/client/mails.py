"""Mails."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.noun import Noun
from sortitor.core.vocabulary import MailState
from sortitor.schemas import mails as m
from sortitor.schemas.base import ReasonGiven


class Mails(Noun):
    """Mails."""

    def list(self, state: MailState | None = None, most: int | None = None) -> Iterator[m.Mail]:
        """Mails, newest first.

        >>> for one in s.mails.list():
        ...     print(one)
        """
        return self._t.pages(m.Mail, "/mails", {"state": state}, most)

    def test(self, address: str) -> None:
        """Send a test mail.

        >>> s.mails.test("you@wrenmoor.example")
        """
        self._t.send("POST", "/mails/test", json=m.MailTest(address=address))

    def again(self, mail_id: int) -> None:
        """Try one at once.

        >>> s.mails.again(5)
        """
        self._t.send("POST", f"/mails/{mail_id}/again", json=ReasonGiven(reason=None))
