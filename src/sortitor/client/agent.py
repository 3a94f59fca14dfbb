"""The agent protocol, as devices and relays speak it."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.noun import Noun
from sortitor.schemas import arrivals as r


class Agent(Noun):
    """The agent protocol."""

    def knock(self, given: r.Knock, credential: str | None = None) -> r.KnockAnswer:
        """Arrive as a device; one that is in use shows its credential."""
        headers = {"Authorization": f"Bearer {credential}"} if credential else {}
        return self._t.call(r.KnockAnswer, "POST", "/agent/knock", json=given, headers=headers)

    def check_in(self, credential: str, os_version: str | None = None) -> r.CheckInAnswer:
        """Give a sign of life as a device."""
        headers = {"Authorization": f"Bearer {credential}"}
        return self._t.call(
            r.CheckInAnswer,
            "POST",
            "/agent/check-in",
            json=r.CheckIn(os_version=os_version),
            headers=headers,
        )

    def relay(self, check_ins: Sequence[r.RelayedCheckIn]) -> r.RelayAnswer:
        """Hand in up to 1,000 check-ins."""
        return self._t.call(
            r.RelayAnswer, "POST", "/agent/check-ins", json=r.Relay(check_ins=list(check_ins))
        )
