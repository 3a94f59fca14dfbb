"""The filter language, for editors."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Noun
from sortitor.schemas import filters as co


class Filters(Noun):
    """The filter language, for editors."""

    def check(self, filter: str, in_use: bool = False, awaited_too: bool = False) -> co.FilterRead:
        """Read a filter and count its devices, or those of them that are in use (or awaited).

        >>> s.filters.check("platform eq 'android'")
        """
        given = co.FilterGiven(filter=filter, in_use=in_use, awaited_too=awaited_too)
        return self._t.call(co.FilterRead, "POST", "/filters/check", json=given)

    def attributes(self) -> Sequence[co.Attribute]:
        """Everything a filter can speak of.

        >>> s.filters.attributes()
        """
        return self._t.whole(co.Attribute, "GET", "/filters/attributes")

    def values(self, attribute: str, beginning: str = "") -> Sequence[str]:
        """Values that devices have now.

        >>> s.filters.values("site")
        """
        return self._t.whole(
            str,
            "GET",
            "/filters/values",
            params={"attribute": attribute, "beginning": beginning},
        )
