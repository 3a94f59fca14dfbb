"""The gate."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Noun
from sortitor.schemas import gate as g
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision


class Gate(Noun):
    """The gate."""

    def show(self) -> g.GateDetail:
        """The policies in order."""
        return self._t.call(g.GateDetail, "GET", "/gate")

    def preview(self, policies: Sequence[g.Policy]) -> Preview:
        """Whom of today's fleet the proposed gate would meet otherwise."""
        return self._t.call(Preview, "POST", "/gate/preview", json=g.Gate(policies=tuple(policies)))

    def apply(self, policies: Sequence[g.Policy], digest: str, reason: str | None = None) -> int:
        """Save the gate as previewed; gives its revision."""
        return self._t.call(
            g.Saved,
            "POST",
            "/gate/apply",
            json=g.GateApply(policies=tuple(policies), digest=digest, reason=reason),
        ).revision

    def attempt(self, imagined: g.Try) -> g.Decision:
        """Try an imagined device."""
        return self._t.call(g.Decision, "POST", "/gate/try", json=imagined)

    def revisions(self) -> Sequence[Revision]:
        """What was changed of it, newest first."""
        return self._t.call(list[Revision], "GET", "/gate/revisions")
