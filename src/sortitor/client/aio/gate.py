# Made by tools/async_client.py; change the module of the same name one folder up.
"""The gate."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence

from sortitor.client.aio.noun import Noun
from sortitor.core.vocabulary import Outcome
from sortitor.schemas import gate as g
from sortitor.schemas.base import Page, Preview
from sortitor.schemas.documents import Revision


class Gate(Noun):
    """The gate."""

    async def show(self) -> g.GateDetail:
        """The policies in order.

        >>> s.gate.show()
        """
        return await self._t.call(g.GateDetail, "GET", "/gate")

    async def preview(self, policies: Sequence[g.Policy]) -> Preview:
        """Whom of today's fleet the proposed gate would meet otherwise.

        >>> s.gate.preview(policies)
        """
        return await self._t.call(Preview, "POST", "/gate/preview", json=_gate(policies))

    async def apply(
        self, policies: Sequence[g.Policy], digest: str, reason: str | None = None
    ) -> int:
        """Save the gate as previewed; gives its revision.

        >>> s.gate.apply(policies, preview.digest)
        """
        return (
            await self._t.call(
                g.Saved,
                "POST",
                "/gate/apply",
                json=g.GateApply(policies=tuple(policies), digest=digest, reason=reason),
            )
        ).revision

    async def check(self, policies: Sequence[g.Policy]) -> Sequence[g.PolicyRemark]:
        """What is odd about policies that can be saved.

        >>> s.gate.check(policies)
        """
        return await self._t.whole(g.PolicyRemark, "POST", "/gate/check", json=_gate(policies))

    async def effective(self, asked: g.EffectiveAsked) -> g.Effective:
        """Each facet with its word, for a person, a group or a device.

        >>> s.gate.effective(asked)
        """
        return await self._t.call(g.Effective, "POST", "/gate/effective", json=asked)

    async def replay(self, policies: Sequence[g.Policy]) -> g.Replay:
        """What the proposed gate would have said to today's fleet and to past arrivals.

        >>> s.gate.replay(policies)
        """
        return await self._t.call(g.Replay, "POST", "/gate/replay", json=_gate(policies))

    async def replayed(
        self,
        policies: Sequence[g.Policy],
        of: str = "fleet",
        outcome: Outcome | None = None,
        reason: str | None = None,
    ) -> AsyncIterator[g.Turned]:
        """The devices (or `of="arrivals"`) that it would meet otherwise.

        >>> s.gate.replayed(policies)
        """
        cursor: str | None = None
        while True:
            params = {
                "of": of,
                "outcome": outcome,
                "reason": reason,
                "cursor": cursor,
                "limit": 500,
            }
            page = await self._t.call(
                Page[g.Turned], "POST", "/gate/replay/list", params=params, json=_gate(policies)
            )
            for one in page.items:
                yield one
            if page.next is None:
                return
            cursor = page.next

    async def replay_file(
        self,
        policies: Sequence[g.Policy],
        of: str = "fleet",
        form: str = "csv",
        outcome: Outcome | None = None,
        reason: str | None = None,
    ) -> bytes:
        """All of them as CSV or XLSX.

        >>> s.gate.replay_file(policies)
        """
        params = {"of": of, "outcome": outcome, "reason": reason, "form": form}
        body = _gate(policies)
        return (await self._t.send("POST", "/gate/replay/file", params=params, json=body)).content

    async def attempt(self, imagined: g.Try) -> g.Decision:
        """Try an imagined device.

        >>> s.gate.attempt(imagined)
        """
        return await self._t.call(g.Decision, "POST", "/gate/try", json=imagined)

    async def revisions(self) -> Sequence[Revision]:
        """What was changed of it, newest first.

        >>> s.gate.revisions()
        """
        return await self._t.whole(Revision, "GET", "/gate/revisions")


def _gate(policies: Sequence[g.Policy]) -> g.Gate:
    return g.Gate(policies=tuple(policies))
