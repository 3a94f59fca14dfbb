# Made by tools/async_client.py; change the module of the same name one folder up.
"""Mails."""

from __future__ import annotations

from collections.abc import AsyncIterator

from sortitor.client.aio.noun import Noun
from sortitor.core.vocabulary import MailState
from sortitor.schemas import mails as m
from sortitor.schemas.base import ReasonGiven


class Mails(Noun):
    """Mails."""

    def list(
        self, state: MailState | None = None, most: int | None = None
    ) -> AsyncIterator[m.Mail]:
        """Mails, newest first.

        >>> for one in s.mails.list():
        ...     print(one)
        """
        return self._t.pages(m.Mail, "/mails", {"state": state}, most)

    async def test(self, address: str) -> None:
        """Send a test mail.

        >>> s.mails.test("you@wrenmoor.example")
        """
        await self._t.send("POST", "/mails/test", json=m.MailTest(address=address))

    async def again(self, mail_id: int) -> None:
        """Try one at once.

        >>> s.mails.again(5)
        """
        await self._t.send("POST", f"/mails/{mail_id}/again", json=ReasonGiven(reason=None))
