# Made by tools/async_client.py; change the module of the same name one folder up.
"""The client library: `with Sortitor(url, token) as s: s.lots.check(path)`.

What a noun needs is loaded when it is used first.
"""

from __future__ import annotations

from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING

from sortitor.client.aio.transport import Asked, Heard, Transport

if TYPE_CHECKING:
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
    from sortitor.client.aio.kits import (
        Catalogue,
        Checklists,
        Items,
        Kits,
        OwnSettings,
        SetupSheets,
    )
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
    from sortitor.client.aio.views import Views
    from sortitor.client.aio.welcome import Welcome


class AsyncSortitor:
    """A connection to one service; a context manager.

    token: a bearer token; without one, call `accounts.sign_in`. timeout_seconds: how long an answer
    may take, connect_seconds: a connection. retries: whether what may fare better is tried again,
    where that is safe. jobs: whether large lots are handed to a worker and waited for; without, one
    request does it. Raises the exceptions of `client.errors`, which have one base.

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
        jobs: bool = True,
    ) -> None:
        self._transport = Transport(url, token, timeout_seconds, connect_seconds, retries, jobs)

    @cached_property
    def accounts(self) -> Accounts:
        """Signing in, accounts and tokens."""
        from sortitor.client.aio.accounts import Accounts

        return Accounts(self._transport)

    @cached_property
    def agent(self) -> Agent:
        """The agent protocol."""
        from sortitor.client.aio.agent import Agent

        return Agent(self._transport)

    @cached_property
    def arrivals(self) -> Arrivals:
        """Arrivals."""
        from sortitor.client.aio.arrivals import Arrivals

        return Arrivals(self._transport)

    @cached_property
    def catalogue(self) -> Catalogue:
        """What can be set on a device."""
        from sortitor.client.aio.kits import Catalogue

        return Catalogue(self._transport)

    @cached_property
    def checklists(self) -> Checklists:
        """Checklists."""
        from sortitor.client.aio.kits import Checklists

        return Checklists(self._transport)

    @cached_property
    def cohorts(self) -> Cohorts:
        """Sets of devices, by filter or by list."""
        from sortitor.client.aio.cohorts import Cohorts

        return Cohorts(self._transport)

    @cached_property
    def devices(self) -> Devices:
        """Devices."""
        from sortitor.client.aio.devices import Devices

        return Devices(self._transport)

    @cached_property
    def ends(self) -> Ends:
        """What ends, and who is reminded of it."""
        from sortitor.client.aio.ends import Ends

        return Ends(self._transport)

    @cached_property
    def erasures(self) -> Erasures:
        """What was erased, with certificates."""
        from sortitor.client.aio.sweeps import Erasures

        return Erasures(self._transport)

    @cached_property
    def files(self) -> Files:
        """Files that are kept for devices, by their SHA-256 in hex."""
        from sortitor.client.aio.files import Files

        return Files(self._transport)

    @cached_property
    def filters(self) -> Filters:
        """The filter language, for editors."""
        from sortitor.client.aio.filters import Filters

        return Filters(self._transport)

    @cached_property
    def gate(self) -> Gate:
        """The gate."""
        from sortitor.client.aio.gate import Gate

        return Gate(self._transport)

    @cached_property
    def groups(self) -> Groups:
        """Groups."""
        from sortitor.client.aio.groups import Groups

        return Groups(self._transport)

    @cached_property
    def holds(self) -> Holds:
        """Keeping devices, a person's or a cohort's, out of sweeps until a day."""
        from sortitor.client.aio.holds import Holds

        return Holds(self._transport)

    @cached_property
    def items(self) -> Items:
        """Items."""
        from sortitor.client.aio.kits import Items

        return Items(self._transport)

    @cached_property
    def jobs(self) -> Jobs:
        """Long work."""
        from sortitor.client.aio.jobs import Jobs

        return Jobs(self._transport)

    @cached_property
    def journal(self) -> Journal:
        """The journal."""
        from sortitor.client.aio.journal import Journal

        return Journal(self._transport)

    @cached_property
    def kits(self) -> Kits:
        """Kits, and what devices get."""
        from sortitor.client.aio.kits import Kits

        return Kits(self._transport)

    @cached_property
    def levels(self) -> Levels:
        """The comparison of the fleet with every roster."""
        from sortitor.client.aio.levels import Levels

        return Levels(self._transport)

    @cached_property
    def lots(self) -> Lots:
        """Lots."""
        from sortitor.client.aio.lots import Lots

        return Lots(self._transport)

    @cached_property
    def mails(self) -> Mails:
        """Mails."""
        from sortitor.client.aio.mails import Mails

        return Mails(self._transport)

    @cached_property
    def naming(self) -> Naming:
        """Naming templates, and renaming."""
        from sortitor.client.aio.naming import Naming

        return Naming(self._transport)

    @cached_property
    def orders(self) -> Orders:
        """Orders: ordered, delivered, arrived, short, over."""
        from sortitor.client.aio.orders import Orders

        return Orders(self._transport)

    @cached_property
    def own_settings(self) -> OwnSettings:
        """Settings that the organisation adds to the catalogue."""
        from sortitor.client.aio.kits import OwnSettings

        return OwnSettings(self._transport)

    @cached_property
    def passes(self) -> Passes:
        """Passes."""
        from sortitor.client.aio.passes import Passes

        return Passes(self._transport)

    @cached_property
    def people(self) -> People:
        """People."""
        from sortitor.client.aio.people import People

        return People(self._transport)

    @cached_property
    def pools(self) -> Pools:
        """Licence pools; a voucher is given as the text in which it came."""
        from sortitor.client.aio.licences import Pools

        return Pools(self._transport)

    @cached_property
    def registries(self) -> Registries:
        """What a registry holds, and what it is asked to do."""
        from sortitor.client.aio.sources import Registries

        return Registries(self._transport)

    @cached_property
    def retention(self) -> Retention:
        """What goes when its time is over."""
        from sortitor.client.aio.retention import Retention

        return Retention(self._transport)

    @cached_property
    def setup_sheets(self) -> SetupSheets:
        """Setup sheets."""
        from sortitor.client.aio.kits import SetupSheets

        return SetupSheets(self._transport)

    @cached_property
    def sources(self) -> Sources:
        """Sources."""
        from sortitor.client.aio.sources import Sources

        return Sources(self._transport)

    @cached_property
    def sweep_rules(self) -> SweepRules:
        """Sweep rules."""
        from sortitor.client.aio.sweeps import SweepRules

        return SweepRules(self._transport)

    @cached_property
    def sweeps(self) -> Sweeps:
        """Looking at whom a rule would retire, and runs."""
        from sortitor.client.aio.sweeps import Sweeps

        return Sweeps(self._transport)

    @cached_property
    def terms(self) -> TermsCalls:
        """Terms."""
        from sortitor.client.aio.terms import TermsCalls

        return TermsCalls(self._transport)

    @cached_property
    def today(self) -> Today:
        """What needs a hand, and the service's words."""
        from sortitor.client.aio.today import Today

        return Today(self._transport)

    @cached_property
    def views(self) -> Views:
        """Saved views of the device list."""
        from sortitor.client.aio.views import Views

        return Views(self._transport)

    @cached_property
    def welcome(self) -> Welcome:
        """The welcome card."""
        from sortitor.client.aio.welcome import Welcome

        return Welcome(self._transport)

    async def __aenter__(self) -> AsyncSortitor:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.aclose()

    def tell_requests(self, hear: Heard) -> None:
        """Let `hear` know of each answer: method, address, status, seconds and the request's id in
        the service's log.

        >>> s.tell_requests(print)
        """
        self._transport.hear = hear

    def ask_first(self, ask: Asked) -> None:
        """Let `ask` know of each request before it is sent: method and address. What it raises
        keeps the request from being sent.

        >>> s.ask_first(print)
        """
        self._transport.ask = ask

    async def aclose(self) -> None:
        """Close the connections."""
        await self._transport.http.aclose()


__all__ = ["AsyncSortitor"]
