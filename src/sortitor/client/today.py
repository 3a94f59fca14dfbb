"""The Today page."""

from __future__ import annotations

from sortitor.client.noun import Noun
from sortitor.schemas.today import Today as TodayAnswer
from sortitor.schemas.vocabulary import Vocabulary


class Today(Noun):
    """What needs a hand, and the service's words."""

    def show(self) -> TodayAnswer:
        """What needs a hand, oldest first.

        >>> s.today.show()
        """
        return self._t.call(TodayAnswer, "GET", "/today")

    def vocabulary(self) -> Vocabulary:
        """Enumerations, comparisons, notes, reasons, roles and thresholds, with their words.

        >>> s.today.vocabulary()
        """
        return self._t.call(Vocabulary, "GET", "/vocabulary")
