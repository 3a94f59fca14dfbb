# Made by tools/async_client.py; change the module of the same name one folder up.
"""Groups."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.aio.documents import if_match
from sortitor.client.aio.noun import Key, Noun, at
from sortitor.schemas import people as p


class Groups(Noun):
    """Groups."""

    async def list(self) -> Sequence[p.Group]:
        """All groups.

        >>> for one in s.groups.list():
        ...     print(one)
        """
        return await self._t.whole(p.Group, "GET", "/groups")

    async def show(self, group: Key) -> p.Group:
        """One group.

        >>> s.groups.show("Crew").groups
        ['Officers']
        """
        return await self._t.call(p.Group, "GET", at("/groups", group))

    async def set_inner(
        self, group: Key, groups: Sequence[Key], revision: int | None = None
    ) -> p.Group:
        """Put exactly these groups into a group; `revision`: as it was read, or of whatever is
        there.

        >>> s.groups.set_inner("All staff", ["Crew", "Officers"])
        """
        return await self._t.call(
            p.Group,
            "PUT",
            at("/groups", group, "groups"),
            json=p.InnerGroups(groups=[*groups]),
            headers=if_match(revision),
        )
