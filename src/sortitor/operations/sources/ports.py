"""What the operations ask of the adapters that speak to other systems."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

from sortitor.core.errors import SourceFault as SourceFault
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RegistryAct, SecretKind

if TYPE_CHECKING:
    from sortitor.core.kits.items import AccountPayload
    from sortitor.core.rosters import Told

Secrets = Mapping[SecretKind, bytes]
Tell = Callable[[str, int, int], None]


@dataclass(frozen=True, slots=True)
class Asked:
    """What of a source is asked: everything, or what changed since a cursor."""

    whole: bool
    cursor: str | None = None
    etag: str | None = None


@dataclass(frozen=True, slots=True)
class Looked:
    """What a look at a source found: sentences, and up to three real entries as it gives them."""

    words: tuple[str, ...]
    entries: tuple[Mapping[str, Sequence[str]], ...] = ()


@dataclass(frozen=True, slots=True)
class Held:
    """A device as a registry holds it, whether it is assigned to this server or not."""

    key: str
    serial: str
    maker: str
    model: str
    reseller: str
    order: str | None
    imei: str | None
    added_at: str
    assigned_to: str | None
    sheet_digest: str | None


@dataclass(frozen=True, slots=True)
class Done:
    """For which devices a registry did what it was asked, and its words for the others."""

    keys: tuple[str, ...] = ()
    refused: Mapping[str, str] = field(default_factory=dict)

    @property
    def count(self) -> int:
        """For how many it was done."""
        return len(self.keys)


class Outside(Protocol):
    """Whoever speaks the protocols. Every method raises SourceFault, and waits for a bounded
    time.
    """

    def read(self, source: Source, secrets: Secrets, asked: Asked, tell: Tell) -> Told | None:
        """What the source says; None where it says that nothing has changed."""

    def look(self, source: Source, secrets: Secrets) -> Looked:
        """Whether it can be reached and opened, and what its entries look like."""

    def proves(self, source: Source, secrets: Secrets, login: str, password: str) -> str | None:
        """The key of the one person of a directory whose login and password these are; None where
        there is none, as slowly.
        """

    def sign_in(self, account: AccountPayload, user: str, password: str) -> None:
        """Sign in to an account of a person, and out again."""

    def find(self, source: Source, secrets: Secrets, query: str, most: int) -> list[Held]:
        """What a registry holds under a number or an order, newest first."""

    def act(
        self,
        source: Source,
        secrets: Secrets,
        act: RegistryAct,
        keys: Sequence[str],
        what: Mapping[str, Any],
        trying: bool,
    ) -> Done:
        """Let a registry assign, release, bring in, or carry a sheet; `trying`: it only says what
        it would do.
        """


class Unreachable:
    """Nobody speaks to anything: what a context has that is given nothing else."""

    def __getattr__(self, name: str) -> Any:
        raise SourceFault("no_outside", "Other systems cannot be reached from here.")


unreachable: Any = Unreachable()
