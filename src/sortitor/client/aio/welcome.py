# Made by tools/async_client.py; change the module of the same name one folder up.
"""The welcome card."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.noun import Noun
from sortitor.schemas import welcome as w
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision


class Welcome(Noun):
    """The welcome card."""

    async def show(self) -> w.WelcomeDetail:
        """The card.

        >>> s.welcome.show()
        """
        return await self._t.call(w.WelcomeDetail, "GET", "/welcome-card")

    async def preview(self, card: w.WelcomeCard) -> Preview:
        """What a change would be.

        >>> s.welcome.preview(card)
        """
        return await self._t.call(Preview, "POST", "/welcome-card/preview", json=card)

    async def apply(self, card: w.WelcomeCard, digest: str, reason: str | None = None) -> int:
        """Save it as previewed; gives its revision.

        >>> s.welcome.apply(card, preview.digest)
        """
        given = w.WelcomeApply(card=card, digest=digest, reason=reason)
        answer = await self._t.send("POST", "/welcome-card/apply", json=given)
        return int(answer.json()["revision"])

    async def add_picture(self, content: bytes) -> str:
        """Upload a picture; gives its digest.

        >>> s.welcome.add_picture(Path("picture.png").read_bytes())
        """
        headers = {"Content-Type": "application/octet-stream"}
        return (
            await self._t.call(
                w.PictureKept, "POST", "/welcome-card/pictures", content=content, headers=headers
            )
        ).digest

    async def revisions(self) -> Sequence[Revision]:
        """What was changed of it, newest first.

        >>> s.welcome.revisions()
        """
        return await self._t.whole(Revision, "GET", "/welcome-card/revisions")
