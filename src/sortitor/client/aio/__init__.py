# Made by tools/async_client.py; change the module of the same name one folder up.
"""The client library: `with Sortitor(url, token) as s: s.lots.check(path)`."""

from __future__ import annotations

from types import TracebackType

from sortitor.client.aio.accounts import Accounts
from sortitor.client.aio.agent import Agent
from sortitor.client.aio.arrivals import Arrivals
from sortitor.client.aio.cohorts import Cohorts
from sortitor.client.aio.devices import Devices
from sortitor.client.aio.ends import Ends
from sortitor.client.aio.files import Files
from sortitor.client.aio.filters import Filters
from sortitor.client.aio.gate import Gate
from sortitor.client.aio.groups import Groups
from sortitor.client.aio.holds import Holds
from sortitor.client.aio.jobs import Jobs
from sortitor.client.aio.journal import Journal
from sortitor.client.aio.kits import Catalogue, Checklists, Items, Kits, OwnSettings, SetupSheets
from sortitor.client.aio.levels import Levels
from sortitor.client.aio.licences import Pools
from sortitor.client.aio.lots import Lots
from sortitor.client.aio.mails import Mails
from sortitor.client.aio.naming import Naming
from sortitor.client.aio.orders import Orders
from sortitor.client.aio.passes import Passes
from sortitor.client.aio.people import People
from sortitor.client.aio.retention import Retention
from sortitor.client.aio.sources import Registries, Sources
from sortitor.client.aio.sweeps import Erasures, SweepRules, Sweeps
from sortitor.client.aio.terms import TermsCalls
from sortitor.client.aio.today import Today
from sortitor.client.aio.transport import Transport
from sortitor.client.aio.views import Views
from sortitor.client.aio.welcome import Welcome


class AsyncSortitor:
    """A connection to one service; a context manager.

    token: a bearer token; without one, call `accounts.sign_in`. timeout_seconds: how long an answer
    may take, connect_seconds: a connection. retries: whether what may fare better is tried again,
    where that is safe. Raises the exceptions of `client.errors`, which have one base.

    >>> with Sortitor("https://devices.example.org", token) as s:
    ...     for device in s.devices.list(filter="idle_days ge 90"):
    ...         print(device.name, device.idle_days)
    """

    def __init__(
        self,
        url: str = "http://127.0.0.1:8470",
        token: str | None = None,
        timeout_seconds: float = 300,
        *,
        connect_seconds: float = 10,
        retries: bool = True,
    ) -> None:
        self._transport = Transport(url, token, timeout_seconds, connect_seconds, retries)
        self.accounts = Accounts(self._transport)
        self.agent = Agent(self._transport)
        self.arrivals = Arrivals(self._transport)
        self.catalogue = Catalogue(self._transport)
        self.checklists = Checklists(self._transport)
        self.cohorts = Cohorts(self._transport)
        self.devices = Devices(self._transport)
        self.ends = Ends(self._transport)
        self.filters = Filters(self._transport)
        self.gate = Gate(self._transport)
        self.groups = Groups(self._transport)
        self.items = Items(self._transport)
        self.jobs = Jobs(self._transport)
        self.journal = Journal(self._transport)
        self.kits = Kits(self._transport)
        self.levels = Levels(self._transport)
        self.lots = Lots(self._transport)
        self.mails = Mails(self._transport)
        self.naming = Naming(self._transport)
        self.orders = Orders(self._transport)
        self.files = Files(self._transport)
        self.own_settings = OwnSettings(self._transport)
        self.registries = Registries(self._transport)
        self.retention = Retention(self._transport)
        self.setup_sheets = SetupSheets(self._transport)
        self.sources = Sources(self._transport)
        self.passes = Passes(self._transport)
        self.people = People(self._transport)
        self.pools = Pools(self._transport)
        self.sweep_rules = SweepRules(self._transport)
        self.sweeps = Sweeps(self._transport)
        self.holds = Holds(self._transport)
        self.erasures = Erasures(self._transport)
        self.terms = TermsCalls(self._transport)
        self.today = Today(self._transport)
        self.views = Views(self._transport)
        self.welcome = Welcome(self._transport)

    async def __aenter__(self) -> AsyncSortitor:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.aclose()

    async def aclose(self) -> None:
        """Close the connections."""
        await self._transport.http.aclose()


__all__ = ["AsyncSortitor"]
