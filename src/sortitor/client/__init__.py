"""The client library: `with Sortitor(url, token) as s: s.lots.check(path)`."""

from __future__ import annotations

from types import TracebackType

from sortitor.client import nouns
from sortitor.client.transport import Transport


class Sortitor:
    """A connection to one service; a context manager.

    `token` is a bearer token; without one, call `accounts.sign_in`. Raises the exceptions of
    `client.errors`.
    """

    def __init__(
        self,
        url: str = "http://127.0.0.1:8470",
        token: str | None = None,
        timeout_seconds: float = 300,
    ) -> None:
        self._transport = Transport(url, token, timeout_seconds)
        self.accounts = nouns.Accounts(self._transport)
        self.people = nouns.People(self._transport)
        self.lots = nouns.Lots(self._transport)
        self.orders = nouns.Orders(self._transport)
        self.jobs = nouns.Jobs(self._transport)
        self.devices = nouns.Devices(self._transport)
        self.cohorts = nouns.Cohorts(self._transport)
        self.gate = nouns.Gate(self._transport)
        self.arrivals = nouns.Arrivals(self._transport)
        self.pools = nouns.Pools(self._transport)
        self.sweeps = nouns.Sweeps(self._transport)
        self.journal = nouns.Journal(self._transport)

    def __enter__(self) -> Sortitor:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._transport.http.close()


__all__ = ["Sortitor"]
