"""The client library: `with Sortitor(url, token) as s: s.lots.check(path)`."""

from __future__ import annotations

from types import TracebackType

from sortitor.client.accounts import Accounts
from sortitor.client.agent import Agent
from sortitor.client.arrivals import Arrivals
from sortitor.client.cohorts import Cohorts
from sortitor.client.devices import Devices
from sortitor.client.ends import Ends
from sortitor.client.files import Files
from sortitor.client.filters import Filters
from sortitor.client.gate import Gate
from sortitor.client.groups import Groups
from sortitor.client.holds import Holds
from sortitor.client.jobs import Jobs
from sortitor.client.journal import Journal
from sortitor.client.kits import (
    Catalogue,
    Checklists,
    Items,
    Kits,
    OwnSettings,
    SetupSheets,
)
from sortitor.client.levels import Levels
from sortitor.client.licences import Pools
from sortitor.client.lots import Lots
from sortitor.client.mails import Mails
from sortitor.client.naming import Naming
from sortitor.client.orders import Orders
from sortitor.client.passes import Passes
from sortitor.client.people import People
from sortitor.client.retention import Retention
from sortitor.client.sources import Registries, Sources
from sortitor.client.sweeps import Erasures, SweepRules, Sweeps
from sortitor.client.terms import TermsCalls
from sortitor.client.today import Today
from sortitor.client.transport import Transport
from sortitor.client.views import Views
from sortitor.client.welcome import Welcome


class Sortitor:
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
