# Made by tools/async_client.py; change the module of the same name one folder up.
"""The calls of every kind of document: list, show, add, edit, remove, with previews."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Generic, TypeVar

from pydantic import BaseModel

from sortitor.client.aio.noun import Key, Noun, at
from sortitor.core.documents import Document
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision

_MERGED = {"Content-Type": "application/merge-patch+json"}
D = TypeVar("D", bound=Document)
A = TypeVar("A", bound=BaseModel)


class Documents(Noun, Generic[D, A]):
    """Documents of one kind. Applying with the digest of a preview does what was previewed, or
    raises FactsMoved.
    """

    path: ClassVar[str]
    answer: type[A]
    model: type[D]

    async def list(self) -> Sequence[A]:
        """All of them, by name.

        >>> for one in s.pools.list():
        ...     print(one)
        """
        return await self._t.whole(self.answer, "GET", self.path)

    async def show(self, key: Key) -> A:
        """One, by number or name.

        >>> s.pools.show("Display signage")
        """
        return await self._t.call(self.answer, "GET", at(self.path, key))

    async def revisions(self, key: Key) -> Sequence[Revision]:
        """What was changed of one, newest first.

        >>> s.pools.revisions("Display signage")
        """
        return await self._t.whole(Revision, "GET", at(self.path, key, "revisions"))

    async def preview_add(self, document: D) -> Preview:
        """What adding one would do.

        >>> s.pools.preview_add(Pool(name="Signage", seats=3))
        """
        return await self._t.call(Preview, "POST", f"{self.path}/preview", json=document)

    async def preview_edit(self, key: Key, document: D) -> Preview:
        """What a change would do.

        >>> s.pools.preview_edit("Display signage", pool.model_copy(update={"seats": 9}))
        """
        return await self._t.call(Preview, "POST", at(self.path, key, "preview"), json=document)

    async def preview_patch(self, key: Key, changes: Mapping[str, Any]) -> Preview:
        """What changing these fields would do; the others stay.

        >>> s.pools.preview_patch("Display signage", {"seats": 120})
        """
        return await self._t.call(
            Preview,
            "POST",
            at(self.path, key, "patch/preview"),
            json=dict(changes),
            headers=_MERGED,
        )

    async def preview_remove(self, key: Key) -> Preview:
        """What removing one would do.

        >>> s.pools.preview_remove("Display signage")
        """
        return await self._t.call(Preview, "POST", at(self.path, key, "removal/preview"))

    async def add(self, document: D, digest: str | None = None, reason: str | None = None) -> A:
        """Add one.

        >>> s.pools.add(Pool(name="Signage", seats=3), preview.digest)
        """
        given = _with(document, digest, reason)
        return await self._t.call(self.answer, "POST", self.path, json=given)

    async def edit(
        self,
        key: Key,
        document: D,
        digest: str | None = None,
        reason: str | None = None,
        revision: int | None = None,
    ) -> A:
        """Change one; `revision` must be the one that was read. With neither a digest nor a
        revision whatever is there is changed.

        >>> s.pools.edit("Display signage", changed, preview.digest)
        """
        given = _with(document, digest, reason)
        headers = if_match(revision, digest)
        return await self._t.call(
            self.answer, "PUT", at(self.path, key), json=given, headers=headers
        )

    async def patch(
        self,
        key: Key,
        changes: Mapping[str, Any],
        digest: str | None = None,
        reason: str | None = None,
        revision: int | None = None,
    ) -> A:
        """Change these fields and nothing else; None sets one back to its default.

        >>> s.pools.patch("Display signage", {"seats": 120})
        """
        return await self._t.call(
            self.answer,
            "PATCH",
            at(self.path, key),
            json=dict(changes),
            params={"digest": digest, "reason": reason},
            headers={**if_match(revision, digest), **_MERGED},
        )

    async def remove(
        self,
        key: Key,
        digest: str | None = None,
        reason: str | None = None,
        revision: int | None = None,
    ) -> None:
        """Remove one; reverting its journal entry brings it back.

        >>> s.pools.remove("Display signage")
        """
        params = {"digest": digest, "reason": reason}
        headers = if_match(revision, digest)
        await self._t.send("DELETE", at(self.path, key), params=params, headers=headers)


def if_match(revision: int | None, digest: str | None = None) -> dict[str, str]:
    """The header that says what an edit was made from; a digest says it by itself."""
    if revision is not None:
        return {"If-Match": f'"{revision}"'}
    return {"If-Match": "*"} if digest is None else {}


def _with(document: Document, digest: str | None, reason: str | None) -> dict[str, Any]:
    return {**document.as_json(), "digest": digest, "reason": reason}
