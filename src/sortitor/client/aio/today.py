# Made by tools/async_client.py; change the module of the same name one folder up.
"""The Today page."""

from __future__ import annotations

from sortitor.client.aio.noun import Noun
from sortitor.schemas.today import Today as TodayAnswer
from sortitor.schemas.vocabulary import Vocabulary


class Today(Noun):
    """What needs a hand, and the service's words."""

    async def show(self) -> TodayAnswer:
        """What needs a hand, oldest first.

        >>> s.today.show()
        """
        return await self._t.call(TodayAnswer, "GET", "/today")

    async def vocabulary(self) -> Vocabulary:
        """Enumerations, comparisons, notes, reasons, roles and thresholds, with their words.

        >>> s.today.vocabulary()
        """
        return await self._t.call(Vocabulary, "GET", "/vocabulary")
