# Made by tools/async_client.py; change the module of the same name one folder up.
"""Groups."""

from __future__ import annotations

from collections.abc import Sequence

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

    async def set_inner(self, group: Key, groups: Sequence[Key]) -> None:
        """Put exactly these groups into a group.

        >>> s.groups.set_inner("Crew", ["Crew", "Officers"])
        """
        given = p.InnerGroups(groups=[*groups])
        await self._t.send("PUT", at("/groups", group, "groups"), json=given)
