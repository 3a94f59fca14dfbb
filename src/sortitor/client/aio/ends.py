# Made by tools/async_client.py; change the module of the same name one folder up.
"""What ends, and who is reminded of it."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.noun import Noun, at
from sortitor.schemas import ends as e
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision


class Ends(Noun):
    """What ends, and who is reminded of it."""

    async def list(self) -> Sequence[e.End]:
        """What ends, first things first.

        >>> for one in s.ends.list():
        ...     print(one)
        """
        return await self._t.whole(e.End, "GET", "/ends")

    async def reminders(self) -> e.RemindersDetail:
        """Who is reminded by mail.

        >>> s.ends.reminders()
        """
        return await self._t.call(e.RemindersDetail, "GET", "/reminders")

    async def preview_reminders(self, reminders: e.Reminders) -> Preview:
        """What a change of the reminders would be.

        >>> s.ends.preview_reminders(reminders)
        """
        return await self._t.call(Preview, "POST", "/reminders/preview", json=reminders)

    async def apply_reminders(
        self, reminders: e.Reminders, digest: str, reason: str | None = None
    ) -> int:
        """Save the reminders as previewed; gives their revision.

        >>> s.ends.apply_reminders(reminders, preview.digest)
        """
        given = e.RemindersApply(reminders=reminders, digest=digest, reason=reason)
        answer = await self._t.send("POST", "/reminders/apply", json=given)
        return int(answer.json()["revision"])

    async def reminders_revisions(self) -> Sequence[Revision]:
        """What was changed of the reminders, newest first.

        >>> s.ends.reminders_revisions()
        """
        return await self._t.whole(Revision, "GET", "/reminders/revisions")

    async def calendar(self, secret: str) -> str:
        """What ends, as a calendar (RFC 5545).

        >>> s.ends.calendar(secret)
        """
        return (await self._t.send("GET", at("/calendar", f"{secret}.ics"))).text
