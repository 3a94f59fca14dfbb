"""Terms that must be accepted at the door."""

from __future__ import annotations

from collections.abc import Iterator

from sortitor.client.documents import Documents
from sortitor.client.noun import Key, at
from sortitor.schemas import terms as t


class TermsCalls(Documents[t.Terms, t.TermsDetail]):
    """Terms."""

    path = "/terms"
    answer = t.TermsDetail
    model = t.Terms

    def page(self, key: Key, language: str | None = None) -> t.TermsPage:
        """Terms as a person sees them.

        >>> s.terms.page("House rules")
        """
        params = {"language": language}
        return self._t.call(t.TermsPage, "GET", at("/terms", key, "page"), params=params)

    def acceptances(self, key: Key, most: int | None = None) -> Iterator[t.Acceptance]:
        """Who accepted the terms, newest first.

        >>> s.terms.acceptances("House rules")
        """
        return self._t.pages(t.Acceptance, at("/terms", key, "acceptances"), {}, most)
