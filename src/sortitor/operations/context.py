"""Who does something, when, and in which transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta, tzinfo
from typing import Any, TypeVar
from urllib.parse import quote, urlsplit

from sortitor.core.access import Veil, veil_of
from sortitor.core.errors import FactsMoved, NotFound
from sortitor.core.kits.items import MOST_BYTES
from sortitor.core.previews import Preview
from sortitor.core.vocabulary import Role
from sortitor.operations.file_readers import FileLimits
from sortitor.operations.kits.ports import Storage, no_storage
from sortitor.operations.sources.ports import Outside, unreachable
from sortitor.operations.vault import Vault, new_key
from sortitor.store import idempotency, journal
from sortitor.store.engine import (
    Connection,
    beside,
    follows,
    has_caught_up,
    set_today,
    transaction,
    with_options,
)
from sortitor.store.engine import Engine as Engine
from sortitor.store.engine import Leash as Leash


@dataclass(frozen=True, slots=True)
class Clock:
    """`now` is the day's business and may be frozen; `wall` is real time, for sessions, tokens and
    slowing down.
    """

    now: Callable[[], datetime]
    wall: Callable[[], datetime]


#: A business clock this near to real time is the same clock.
_ONE_CLOCK = timedelta(minutes=1)
#: A standby that is further behind is not asked.
_BEHIND_SECONDS = 5.0


@dataclass(frozen=True, slots=True)
class Keeping:
    """For how many days things are kept that nobody needs for ever; 0: for ever."""

    arrivals_days: int = 730
    uploads_days: int = 400
    jobs_days: int = 90
    files_days: int = 90


@dataclass(frozen=True, slots=True)
class Limits:
    """Bounds that the installation's settings give."""

    idle_window_days: tuple[int, int] = (21, 400)
    session_hours: int = 12
    session_idle_hours: int = 4
    public_url: str = ""
    #: Where a day begins and ends.
    zone: tzinfo = UTC
    #: Whether a mail server is set.
    sends_mail: bool = False
    files: FileLimits = field(default_factory=FileLimits)
    keeping: Keeping = field(default_factory=Keeping)
    #: The largest file that is kept for devices.
    max_file_bytes: int = MOST_BYTES

    @property
    def base(self) -> str:
        """Below which path people reach the service, as headers can carry it (RFC 3986 §2.1);
        empty at the root of a host.
        """
        return quote(urlsplit(self.public_url).path.rstrip("/"), safe="/%")


@dataclass(frozen=True, slots=True)
class Actor:
    """Who acts: an account, the service itself, or a device (no account then). `by_token`: by a
    token rather than with a password.
    """

    name: str
    role: Role
    account_id: int | None = None
    by_token: bool = False


@dataclass(frozen=True, slots=True)
class Claim:
    """An idempotency key with the hash of its request."""

    key: str
    request_hash: str


def _silent(phase: str, done: int, total: int) -> None:
    """Nobody follows."""


def _unheard(entry_id: int) -> None:
    """Nobody asks for entries."""


@dataclass(frozen=True, slots=True)
class Context:
    """What every operation is given. `progress` hears of long work: `(phase, done, total)`, and may
    stop it by raising Cancelled.
    """

    engine: Engine
    clock: Clock
    limits: Limits
    actor: Actor
    request_id: str | None = None
    claim: Claim | None = None
    progress: Callable[[str, int, int], None] = _silent
    leash: Leash | None = None
    #: What speaks to other systems, and what opens them.
    outside: Outside = unreachable
    vault: Vault = field(default_factory=lambda: Vault([new_key()]))
    storage: Storage = no_storage
    #: A copy of the database that is a moment behind, for heavy reads; None: there is none.
    standby: Engine | None = None
    #: Hears of each journal entry that is written, by its number.
    noted: Callable[[int], None] = _unheard
    _spent: list[bool] = field(default_factory=list)

    @property
    def now(self) -> datetime:
        """The present moment of the business, UTC."""
        return self.clock.now()

    @property
    def today(self) -> date:
        """The present day of the business, in the organisation's time zone."""
        return self.now.astimezone(self.limits.zone).date()

    @property
    def veil(self) -> Veil:
        """What whoever acts may see of the identifiers of personal devices."""
        return veil_of(self.actor.role)

    @contextmanager
    def reading(self, one_moment: bool = False) -> Iterator[Connection]:
        """A transaction that changes nothing and locks nothing: the database refuses it. All its
        statements see `one_moment`, or each its own.
        """
        engine = with_options(self.engine, "REPEATABLE READ" if one_moment else None, reads=True)
        with transaction(engine, self.leash) as connection:
            yield connection

    def aside(self, as_now: bool = False) -> Context:
        """The same for heavy reads of what may be some seconds old: by the standby, while there is
        one that follows. `as_now`: by one that has everything that is written by now, as a preview
        needs it.
        """
        if self.standby is None or not follows(self.standby, _BEHIND_SECONDS):
            return self
        if as_now and not has_caught_up(self.standby, self.engine):
            return self
        return replace(self, engine=self.standby)

    @contextmanager
    def glancing(self) -> Iterator[Connection]:
        """For one statement that only reads, in no transaction: one round trip instead of three."""
        with transaction(with_options(self.engine, "AUTOCOMMIT"), self.leash) as connection:
            yield connection

    @contextmanager
    def beside(self) -> Iterator[Connection]:
        """For one statement that stands whatever becomes of the transaction that is open, and that
        nobody waits for until that one ends.
        """
        with transaction(beside(self.engine), self.leash) as connection:
            yield connection

    @contextmanager
    def working_out(self) -> Iterator[Connection]:
        """A transaction that previews with tables of its own; it is always rolled back."""
        with transaction(self.engine, self.leash) as connection:
            yield connection
            connection.rollback()

    def check_time(self) -> None:
        """Raise OutOfTime once the request may take no longer: for long work outside the
        database.
        """
        if self.leash is not None:
            self.leash.check()

    @contextmanager
    def bookkeeping(self) -> Iterator[Connection]:
        """A transaction for what nobody calls a change of the fleet, and no journal tells: who is
        signed in, how far a job is, what a draft was found to do.
        """
        with transaction(self.engine) as connection:
            yield connection

    @contextmanager
    def changing(self) -> Iterator[Connection]:
        """The transaction of one change; a claimed idempotency key is written with it."""
        with transaction(self.engine, self.leash) as connection:
            if abs(self.now - self.clock.wall()) > _ONE_CLOCK:
                set_today(connection, self.today)
            if self.claim and self.actor.account_id is not None and not self._spent:
                idempotency.claim(
                    connection,
                    self.actor.account_id,
                    self.claim.key,
                    self.claim.request_hash,
                    self.clock.wall(),
                )
                self._spent.append(True)
            yield connection

    def counting(self, phase: str, total: int) -> Callable[[int], None]:
        """What a bulk write tells of its rows, added up under the phase's name."""
        done = 0

        def tell(rows: int) -> None:
            nonlocal done
            done += rows
            self.progress(phase, done, total)

        self.progress(phase, 0, total)
        return tell

    def record(
        self,
        connection: Connection,
        operation: str,
        subject: str,
        summary: str,
        *,
        subject_id: int | None = None,
        reason: str | None = None,
        before: Any = None,
        after: Any = None,
        reverts: int | None = None,
    ) -> int:
        """Write the journal entry of this change and give its id."""
        entry_id = journal.record(
            connection,
            {
                **self.entry(operation, subject, summary),
                "subject_id": subject_id,
                "reason": reason or None,
                "before": before,
                "after": after,
                "reverts": reverts,
            },
        )
        self.noted(entry_id)
        return entry_id

    def entry(self, operation: str, subject: str, summary: str) -> dict[str, Any]:
        """What every journal entry of whoever acts says."""
        return {
            "at": self.now,
            "actor": self.actor.name,
            "account_id": self.actor.account_id,
            "request_id": self.request_id,
            "operation": operation,
            "subject": subject,
            "summary": summary,
        }


_Found = TypeVar("_Found")


def or_not_found(found: _Found | None, what: str, name: object) -> _Found:
    """What was found, or NotFound saying what there is none of."""
    if found is None:
        raise NotFound(what, name)
    return found


def require_digest(preview: Preview, digest: str) -> None:
    """Raise FactsMoved unless the caller has seen this very preview."""
    if preview.digest != digest:
        raise FactsMoved(preview)
