"""Sweep rules and runs."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal

from sortitor.client.documents import Documents
from sortitor.client.noun import Key, Noun, at
from sortitor.schemas import sweeps as s
from sortitor.schemas.base import Apply, Preview


class SweepRules(Documents[s.Rule, s.RuleDetail]):
    """Sweep rules."""

    path = "/sweep-rules"
    answer = s.RuleDetail
    model = s.Rule


class Sweeps(Noun):
    """Looking at whom a rule would retire, and runs."""

    def preview(self, rule: Key) -> Preview:
        """Whom the rule would retire now.

        >>> s.sweeps.preview(rule)
        """
        return self._t.call(Preview, "POST", at("/sweep-rules", rule, "sweep/preview"))

    def apply(self, rule: Key, digest: str, reason: str | None = None) -> s.Sweep:
        """Retire as previewed.

        >>> s.sweeps.apply(rule, preview.digest)
        """
        return self._t.call(
            s.Sweep,
            "POST",
            at("/sweep-rules", rule, "sweep/apply"),
            json=Apply(digest=digest, reason=reason),
        )

    def idle(self, rule: s.Rule) -> s.Idle:
        """The idle days of everything that a rule, saved or not, would watch.

        >>> s.sweeps.idle(rule)
        """
        return self._t.call(s.Idle, "POST", "/sweeps/idle/preview", json=rule)

    def due_file(self, rule: s.Rule, form: Literal["csv", "xlsx"] = "csv") -> bytes:
        """The devices that a rule, saved or not, would make dormant or retire now, as a file.

        >>> s.sweeps.due_file(rule)
        """
        params = {"form": form}
        return self._t.send("POST", "/sweeps/due/file", params=params, json=rule).content

    def list(self, most: int | None = None) -> Iterator[s.Sweep]:
        """Runs, newest first.

        >>> for one in s.sweeps.list():
        ...     print(one)
        """
        return self._t.pages(s.Sweep, "/sweeps", {}, most)

    def preview_revert(self, sweep_id: int) -> Preview:
        """Which devices would come back.

        >>> s.sweeps.preview_revert(6)
        """
        return self._t.call(Preview, "POST", f"/sweeps/{sweep_id}/revert/preview")

    def revert(self, sweep_id: int, digest: str, reason: str | None = None) -> s.Sweep:
        """Bring a run's devices back as previewed.

        >>> s.sweeps.revert(6, preview.digest)
        """
        return self._t.call(
            s.Sweep, "POST", f"/sweeps/{sweep_id}/revert", json=Apply(digest=digest, reason=reason)
        )

    def preview_erasure(self, rule: Key) -> Preview:
        """Which retired devices a rule's retention is over for.

        >>> s.sweeps.preview_erasure(rule)
        """
        return self._t.call(Preview, "POST", at("/sweep-rules", rule, "erasure/preview"))

    def erase(self, rule: Key, digest: str, confirm: int, reason: str | None = None) -> s.Erasure:
        """Erase them as previewed; `confirm` is how many they are. Nothing brings them back.

        >>> s.sweeps.erase(rule, preview.digest, 14)
        """
        given = s.Confirmed(digest=digest, confirm=confirm, reason=reason)
        return self._t.call(
            s.Erasure, "POST", at("/sweep-rules", rule, "erasure/apply"), json=given
        )


class Erasures(Noun):
    """What was erased, with certificates."""

    def list(self, most: int | None = None) -> Iterator[s.Erasure]:
        """Erasures, newest first.

        >>> for one in s.erasures.list():
        ...     print(one)
        """
        return self._t.pages(s.Erasure, "/erasures", {}, most)

    def certificate(self, erasure_id: int) -> dict[str, Any]:
        """Who erased what and when, signed (JWS, RFC 7515).

        >>> s.erasures.certificate(3)
        """
        found: dict[str, Any] = self._t.send("GET", f"/erasures/{erasure_id}/certificate").json()
        return found
