"""Passes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sortitor.client.noun import Noun
from sortitor.schemas import passes as p
from sortitor.schemas.base import ReasonGiven


class Passes(Noun):
    """Passes."""

    def add(
        self, terms: p.PassTerms, passcode: str | None = None, mailed: bool = False
    ) -> p.PassCode:
        """Make a pass; its code is given this once.

        >>> s.passes.add(terms)
        """
        given = p.PassGiven(**terms.model_dump(), passcode=passcode, mailed=mailed)
        return self._t.call(p.PassCode, "POST", "/passes", json=given)

    def add_for_people(
        self,
        terms: p.PassTerms,
        people: Sequence[str] = (),
        group: str | None = None,
        passcode: str | None = None,
        mailed: bool = True,
    ) -> Sequence[p.PassOfPerson]:
        """Make a pass each for many people, or for everybody in a group.

        >>> s.passes.add_for_people(terms)
        """
        given = p.PassesGiven(
            terms=terms, people=list(people), group=group, passcode=passcode, mailed=mailed
        )
        return self._t.whole(p.PassOfPerson, "POST", "/passes/batch", json=given)

    def list(self, most: int | None = None) -> Iterator[p.Pass]:
        """Passes, newest first.

        >>> for one in s.passes.list():
        ...     print(one)
        """
        return self._t.pages(p.Pass, "/passes", {}, most)

    def show(self, pass_id: int) -> p.Pass:
        """One pass.

        >>> s.passes.show(9)
        """
        return self._t.call(p.Pass, "GET", f"/passes/{pass_id}")

    def people(self, pass_id: int) -> Sequence[p.PassUse]:
        """Who has it or one made with it, and what became of each.

        >>> s.passes.people(9)
        """
        return self._t.whole(p.PassUse, "GET", f"/passes/{pass_id}/people")

    def revoke(self, pass_id: int, reason: str | None = None, whole_batch: bool = False) -> int:
        """End a pass at once, or all that were made with it; gives how many.

        >>> s.passes.revoke(9)
        """
        given = p.Revoking(whole_batch=whole_batch, reason=reason)
        return self._t.call(p.PassCount, "POST", f"/passes/{pass_id}/revoke", json=given).count

    def remind(self, pass_id: int) -> int:
        """Mail those who have not used their pass; gives how many.

        >>> s.passes.remind(9)
        """
        return self._t.call(
            p.PassCount, "POST", f"/passes/{pass_id}/remind", json=ReasonGiven(reason=None)
        ).count
