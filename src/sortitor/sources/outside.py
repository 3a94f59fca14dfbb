"""Every kind of source by its own protocol."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sortitor.core.kits.items import AccountPayload
from sortitor.core.rosters import Told
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RegistryAct, SourceKind
from sortitor.operations.file_readers import FileLimits
from sortitor.operations.sources.ports import Asked, Done, Held, Looked, Secrets, Tell
from sortitor.sources import issuer, personal, registry, roster_file
from sortitor.sources.network import Networks


@dataclass(frozen=True, slots=True)
class Protocols:
    """The port `Outside`, with the bounds of the settings."""

    networks: Networks = field(default_factory=Networks)
    most_bytes: int = 200_000_000
    files: FileLimits = field(default_factory=FileLimits)

    def read(self, source: Source, secrets: Secrets, asked: Asked, tell: Tell) -> Told | None:
        """What the source says; None where it says that nothing has changed."""
        if source.kind is SourceKind.DIRECTORY:
            from sortitor.sources import ldap  # only directories need it

            return ldap.read(source, secrets, asked, tell, self.networks)
        if source.kind is SourceKind.REGISTRY:
            return registry.read(source, secrets, asked, tell, self.networks)
        if source.kind is SourceKind.ISSUER:
            return issuer.read(source, secrets, asked, self.networks)
        return roster_file.read(
            source, secrets, asked, tell, self.networks, self.most_bytes, self.files
        )

    def look(self, source: Source, secrets: Secrets) -> Looked:
        """Whether it can be reached and opened, and what its entries look like."""
        if source.kind is SourceKind.DIRECTORY:
            from sortitor.sources import ldap  # only directories need it

            return ldap.look(source, secrets, self.networks)
        if source.kind is SourceKind.REGISTRY:
            return registry.look(source, secrets, self.networks)
        if source.kind is SourceKind.ISSUER:
            return issuer.look(source, secrets, self.networks)
        return roster_file.look(source, secrets, self.networks, self.most_bytes, self.files)

    def proves(self, source: Source, secrets: Secrets, login: str, password: str) -> str | None:
        """The key of the one person of a directory whose login and password these are."""
        from sortitor.sources import ldap  # only directories need it

        return ldap.proves(source, secrets, login, password, self.networks)

    def sign_in(self, account: AccountPayload, user: str, password: str) -> None:
        """Sign in to an account of a person, and out again."""
        personal.sign_in(account, user, password, self.networks)

    def find(self, source: Source, secrets: Secrets, query: str, most: int) -> list[Held]:
        """What a registry holds under a number or an order, newest first."""
        return registry.find(source, secrets, query, most, self.networks)

    def act(
        self,
        source: Source,
        secrets: Secrets,
        act: RegistryAct,
        keys: Sequence[str],
        what: Mapping[str, Any],
        trying: bool,
    ) -> Done:
        """Let a registry assign, release, bring in, or carry a sheet."""
        return registry.act(source, secrets, act, keys, what, trying, self.networks)
