"""Groups."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.documents import if_match
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

    def show(self, group: Key) -> p.Group:
        """One group.

        >>> s.groups.show("Crew").groups
        ['Officers']
        """
        return self._t.call(p.Group, "GET", at("/groups", group))

    def set_inner(self, group: Key, groups: Sequence[Key], revision: int | None = None) -> p.Group:
        """Put exactly these groups into a group; `revision`: as it was read, or of whatever is
        there.

        >>> s.groups.set_inner("All staff", ["Crew", "Officers"])
        """
        return self._t.call(
            p.Group,
            "PUT",
            at("/groups", group, "groups"),
            json=p.InnerGroups(groups=[*groups]),
            headers=if_match(revision),
        )
