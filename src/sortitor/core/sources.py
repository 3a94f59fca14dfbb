"""Sources: other systems that know something of devices and people, and how old that knowledge
is.

A source is one document whatever its kind; what concerns one kind alone is refused for the others.
What it said last is a roster (`core/rosters/`); what it is opened with is kept apart and encrypted.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any
from urllib.parse import urlsplit

from pydantic import BeforeValidator, Field, StringConstraints

from sortitor.core.columns import COLUMNS
from sortitor.core.documents import FilterText, NamedDocument, Note, or_nothing
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import parse
from sortitor.core.vocabulary import (
    Login,
    Ownership,
    RunState,
    SecretKind,
    SourceKind,
    SourceState,
)

Line = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=1_000)]
LongText = Annotated[str | None, Field(max_length=20_000), BeforeValidator(or_nothing)]

#: What a person is known by here → the attribute of a directory that says it, unless the source
#: names another (RFC 4519, RFC 4524, RFC 2798, RFC 4530).
PERSON_ATTRIBUTES: dict[str, str] = {
    "key": "entryUUID",
    "user_name": "uid",
    "name": "cn",
    "mail": "mail",
    "department": "departmentNumber",
    "site": "l",
}
#: The same of a group and of a device.
GROUP_ATTRIBUTES: dict[str, str] = {"group_name": "cn", "member": "member"}
DEVICE_ATTRIBUTES: dict[str, str] = {
    "serial": "serialNumber",
    "device_name": "cn",
    "owner": "owner",
    "device_site": "l",
}
ATTRIBUTES: dict[str, str] = {**PERSON_ATTRIBUTES, **GROUP_ATTRIBUTES, **DEVICE_ATTRIBUTES}
#: Written once, with an option or without: `uid`, `userCertificate;binary` (RFC 4512 §2.5).
_ATTRIBUTE = re.compile(r"[A-Za-z][A-Za-z0-9-]*(;[A-Za-z0-9-]+)*")
MOST_MINUTES = 31 * 24 * 60
#: So many may always go: a share says nothing of a handful.
_MAY_GO = 2

#: Which fields belong to one kind alone.
_OF_KIND: dict[SourceKind, tuple[str, ...]] = {
    SourceKind.DIRECTORY: (
        "branches",
        "people_filter",
        "groups_filter",
        "devices_filter",
        "bind_name",
        "starttls",
        "authority",
        "attributes",
        "leavers_by",
        "signs_in_by",
    ),
    SourceKind.REGISTRY: ("resellers", "takes_new", "ownership"),
    SourceKind.ROSTER: ("columns",),
    SourceKind.PUSH: (),
    SourceKind.ISSUER: (),
}
#: How an address of a source of a kind begins.
SCHEMES: dict[SourceKind, tuple[str, ...]] = {
    SourceKind.DIRECTORY: ("ldaps", "ldap"),
    SourceKind.REGISTRY: ("https", "http"),
    SourceKind.ROSTER: ("https", "http"),
    SourceKind.ISSUER: ("https", "http"),
}
#: What a source of a kind is opened with.
OPENED_WITH: dict[SourceKind, tuple[SecretKind, ...]] = {
    SourceKind.DIRECTORY: (SecretKind.PASSWORD,),
    SourceKind.REGISTRY: (SecretKind.KEY, SecretKind.TOKEN),
    SourceKind.ROSTER: (SecretKind.TOKEN,),
    SourceKind.PUSH: (),
    SourceKind.ISSUER: (SecretKind.TOKEN,),
}


class Source(NamedDocument):
    """A system that knows something beside Sortitor: where it is, what of it is read, and when."""

    kind: SourceKind = Field(description="What kind of system it is.")
    address: Note = Field(
        default=None,
        description=(
            "Where it is: ldaps://host for a directory, https://… for a registry, a roster or the"
            " keys of an issuer; a roster or keys without one are handed over by hand."
        ),
    )
    fresh_hours: int = Field(
        default=48, ge=1, le=8_760, description="Hours after which what it said is called late."
    )
    every_minutes: int | None = Field(
        default=None,
        ge=1,
        le=MOST_MINUTES,
        description="Minutes from run to run; empty: only by hand.",
    )
    whole_hours: int = Field(
        default=24,
        ge=1,
        le=8_760,
        description="Hours after which it is read whole although changes alone could be asked for.",
    )
    brake_percent: int = Field(
        default=10,
        ge=1,
        le=100,
        description="A run that would drop more than this share stops and asks.",
    )
    covers: FilterText = Field(
        default=None,
        description=(
            "Which devices it should know, in the filter language; empty: none is missed there."
        ),
    )
    branches: tuple[Line, ...] = Field(
        default=(),
        max_length=50,
        description="Of a directory: where to look, such as ou=people,dc=example.",
    )
    people_filter: LongText = Field(
        default="(objectClass=inetOrgPerson)",
        description="Of a directory: which entries are people (RFC 4515).",
    )
    groups_filter: LongText = Field(
        default="(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))",
        description="Of a directory: which entries are groups; empty: none are read.",
    )
    devices_filter: LongText = Field(
        default=None,
        description="Of a directory: which entries are devices; empty: none are read.",
    )
    bind_name: Note = Field(
        default=None, description="Of a directory: as whom it is read, by distinguished name."
    )
    starttls: bool = Field(
        default=True, description="Of a directory at ldap://: whether TLS is begun before reading."
    )
    authority: LongText = Field(
        default=None,
        description=(
            "Of a directory: the certificate (PEM) of whoever vouches for it; empty: those that"
            " this machine trusts."
        ),
    )
    attributes: tuple[Line, ...] = Field(
        default=(),
        max_length=len(ATTRIBUTES),
        description="Of a directory: which attribute says what, such as user_name=sAMAccountName.",
    )
    leavers_by: Note = Field(
        default=None,
        description=(
            "Of a directory: which of the people have left, as a filter (RFC 4515), beside those"
            " it no longer lists."
        ),
    )
    signs_in_by: Login | None = Field(
        default=None,
        description=(
            "Of a directory: by what its people sign in with its password, at the door and to"
            " accounts; empty: nobody does."
        ),
    )
    resellers: tuple[Line, ...] = Field(
        default=(),
        max_length=200,
        description="Of a registry: only what these resellers delivered; empty: everything.",
    )
    takes_new: bool = Field(
        default=True, description="Of a registry: whether its new devices become awaited here."
    )
    ownership: Ownership = Field(
        default=Ownership.CORPORATE, description="Of a registry: whose its new devices are."
    )
    columns: tuple[Line, ...] = Field(
        default=(),
        max_length=60,
        description="Of a roster: which header is which column, such as serial=Equipment no.",
    )

    def check(self) -> None:
        """Raise BadInput for what does not fit the kind, and what cannot be read."""
        if self.covers:
            parse(self.covers)
            if self.kind is SourceKind.ISSUER:
                raise _wrong("covers", "other_kind", "An issuer knows no devices.")
        self._check_kind()
        self._check_address()
        if self.kind is SourceKind.DIRECTORY:
            if not self.branches:
                raise _wrong("branches", "no_branch", "A directory needs a branch to look in.")
            if self.signs_in_by and not self.encrypted:
                detail = "Nobody's password goes to a directory without TLS."
                raise _wrong("signs_in_by", "no_tls", detail, "Use ldaps://, or begin TLS.")
            attributes_of(self)
        columns_of(self)

    def _check_kind(self) -> None:
        for kind, names in _OF_KIND.items():
            for name in names if kind is not self.kind else ():
                if getattr(self, name) != type(self).model_fields[name].get_default():
                    detail = f"“{name}” belongs to a {kind}; this is a {self.kind}."
                    raise _wrong(name, "other_kind", detail)

    def _check_address(self) -> None:
        schemes = SCHEMES.get(self.kind, ())
        if self.address is None:
            if self.kind in (SourceKind.DIRECTORY, SourceKind.REGISTRY):
                raise _wrong("address", "no_address", f"A {self.kind} needs an address.")
            return
        if not schemes:
            raise _wrong("address", "other_kind", "What is pushed has no address.")
        try:
            parts = urlsplit(self.address)
            port = parts.port
        except ValueError as error:
            raise _wrong("address", "bad_address", f"{self.address!r}: {error}.") from error
        if parts.scheme not in schemes or not parts.hostname or port == 0:
            wanted = " or ".join(f"{scheme}://" for scheme in schemes)
            detail = f"{self.address!r} is no address that begins with {wanted}."
            raise _wrong("address", "bad_address", detail)
        if parts.username or parts.password:
            detail = "A password does not belong into an address, which everybody may see."
            raise _wrong("address", "secret_in_address", detail, "Give it as the credential.")

    @property
    def encrypted(self) -> bool:
        """Whether nobody on the way can read what is sent to it."""
        scheme = urlsplit(self.address or "").scheme
        return self.starttls if scheme == "ldap" else scheme != "http"

    @property
    def asks(self) -> bool:
        """Whether Sortitor goes and asks it, rather than being told."""
        return self.kind is not SourceKind.PUSH and self.address is not None


def _wrong(field: str, code: str, detail: str, remedy: str = "Correct it.") -> BadInput:
    return BadInput(code, detail, remedy, (FieldProblem(f"/{field}", code, detail),))


def _pairs(field: str, lines: tuple[str, ...], known: Mapping[str, Any]) -> dict[str, str]:
    """Lines of `name=value` as a mapping. Raises BadInput for one that is none of it."""
    found: dict[str, str] = {}
    for line in lines:
        name, equals, value = (part.strip() for part in line.partition("="))
        if not equals or not value:
            raise _wrong(field, "bad_pair", f"{line!r} is not of the form NAME=VALUE.")
        if name not in known:
            detail = f"There is no {name!r}; there are {', '.join(known)}."
            raise _wrong(field, "unknown_name", detail)
        found[name] = value
    return found


def attributes_of(source: Source) -> dict[str, str]:
    """What is known here → the attribute of the directory that says it."""
    given = _pairs("attributes", source.attributes, ATTRIBUTES)
    for name, attribute in given.items():
        if not _ATTRIBUTE.fullmatch(attribute):
            detail = f"{attribute!r} for {name} is no name of an attribute."
            raise _wrong("attributes", "bad_attribute", detail)
    return {**ATTRIBUTES, **given}


def columns_of(source: Source) -> dict[str, str]:
    """Column → header of a roster, where its headers do not say it by themselves."""
    return _pairs("columns", source.columns, dict.fromkeys(COLUMNS))


# ---- how old is it


@dataclass(frozen=True, slots=True)
class Standing:
    """What is known of a source's runs: when it was last read to its end, when whole, and what
    became of the last run that ended.
    """

    good_at: datetime | None = None
    whole_at: datetime | None = None
    last_state: RunState | None = None
    last_at: datetime | None = None


def state_of(source: Source, standing: Standing, now: datetime) -> SourceState:
    """What is to be thought of what a source said last."""
    if standing.last_state in (RunState.FAILED, RunState.BRAKED):
        return SourceState.FAILING
    if standing.good_at is None:
        return SourceState.NEVER
    late = now - standing.good_at > timedelta(hours=source.fresh_hours)
    return SourceState.LATE if late else SourceState.FRESH


def next_run_at(source: Source, standing: Standing) -> datetime | None:
    """When it runs by itself: None where it does so only by hand; the beginning of time where it
    never did.
    """
    if source.every_minutes is None or not source.asks:
        return None
    last = max(filter(None, (standing.good_at, standing.last_at)), default=None)
    if last is None:
        return datetime.min.replace(tzinfo=UTC)
    return last + timedelta(minutes=source.every_minutes)


def wants_whole(source: Source, standing: Standing, now: datetime) -> bool:
    """Whether a run has to read everything and not only what changed."""
    if standing.whole_at is None:
        return True
    return now - standing.whole_at >= timedelta(hours=source.whole_hours)


def brakes(source: Source, gone: int, known: int) -> bool:
    """Whether a run that would drop so many of those known must stop and ask; a handful may go
    from a small roster.
    """
    return gone > _MAY_GO and gone * 100 > known * source.brake_percent


# ---- when what opens it ends

#: A certificate that is good for longer than this is worth a word.
LONG_DAYS = 398


def days_left(ends_at: datetime, now: datetime) -> int:
    """Days from today until the day of an end, UTC; negative once that is past."""
    return (ends_at.astimezone(UTC).date() - now.date()).days
