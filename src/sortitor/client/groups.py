"""Groups."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Key, Noun, at
from sortitor.schemas import people as p


class Groups(Noun):
    """Groups."""

    def list(self) -> Sequence[p.Group]:
        """All groups.

        >>> for one in s.groups.list():
        ...     print(one)
        """
        return self._t.whole(p.Group, "GET", "/groups")

    def set_inner(self, group: Key, groups: Sequence[Key]) -> None:
        """Put exactly these groups into a group.

        >>> s.groups.set_inner("Crew", ["Crew", "Officers"])
        """
        given = p.InnerGroups(groups=[*groups])
        self._t.send("PUT", at("/groups", group, "groups"), json=given)
