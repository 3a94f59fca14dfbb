"""The systems around the company, and what they know differently: a directory, a registry whose
token has ended, and the yard's own list.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from random import Random

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Act, Login, RegistryAct, SourceKind
from sortitor.demo import scenario as sc
from sortitor.schemas.jobs import Job
from sortitor.schemas.sources import RegistryActAsked
from sortitor.stand_ins import directory as ldap
from sortitor.stand_ins import numbers
from sortitor.stand_ins.directory import BASE, PASSWORD, ROOT, Directory
from sortitor.stand_ins.issuer import Issuer
from sortitor.stand_ins.registry.shelf import Shelf

DIRECTORY, REGISTRY, YARD = "Office directory", "Chandlers registry", "Yard list"
ISSUER = "Harbour Software"
SERVER, RESELLER = "Wrenmoor Lines", "Chandlers & Co"
#: A token is good for a year; this one ended nine days before the scenario's today.
_TOKEN_AT = datetime(2025, 1, 10, 9, 0, tzinfo=UTC)
_LAST_GOOD_AT = datetime(2026, 1, 9, 5, 0, tzinfo=UTC)
_YARD_AT = datetime(2025, 12, 8, 10, 30, tzinfo=UTC)
_PATIENCE_SECONDS = 120
#: Of everybody in the directory.
CREW_PASSWORD = "wrenmoor-crew-1"

At = Callable[[datetime], None]


@dataclass(slots=True)
class Outside:
    """The systems that run beside the demonstration; there may be no directory."""

    shelf: Shelf
    registry: str
    issuer: Issuer
    #: Where the issuer's page is.
    issuers: str
    directory: Directory | None


def trust_issuer(s: Sortitor, outside: Outside) -> None:
    """Whose vouchers are taken."""
    keys = f"{outside.issuers}/keys"
    s.sources.add(Source(name=ISSUER, kind=SourceKind.ISSUER, address=keys, fresh_hours=72))
    _run(s, ISSUER)


def use_voucher(
    s: Sortitor, outside: Outside, pool: str, seats: int, days: int, act: Act, reason: str
) -> int:
    """A voucher comes and is used; gives the journal's entry."""
    text = outside.issuer.voucher(pool, seats, days)
    digest = s.pools.preview_grant(pool, text, act).digest
    return s.pools.apply_grant(pool, text, act, digest, reason).entry_id


def directory_ldif(scenario: sc.Scenario) -> str:
    """The company's people and groups as LDIF (RFC 2849): two were hired, one has left, three
    moved to another department since the people were last imported by file.
    """
    people = [*scenario.people, *scenario.seasonal]
    moved = {person.user_name for person in people[20:23]}
    staying = [person for person in people if person is not people[30]]
    hired = [
        sc.Person("wren.tallis", "Wren Tallis", "Finance", sc.OFFICE, ("All staff", "Office")),
        sc.Person("noor.saeed", "نور سعيد", "Deck", sc.VESSELS[0], ("All staff", "Crew")),
    ]
    entries = [
        ldap.person(
            person.user_name,
            person.name,
            person.mail,
            departmentNumber="Harbours" if person.user_name in moved else person.department,
            l=person.site,
            userPassword=CREW_PASSWORD,
        )
        for person in (*staying, *hired)
    ]
    places: dict[str, list[str]] = {}
    for person in (*staying, *hired):
        for name in person.groups:
            places.setdefault(name, []).append(f"uid={person.user_name},ou=people,{BASE}")
    groups = [ldap.group(name, members) for name, members in places.items()]
    afloat = [f"cn={name},ou=groups,{BASE}" for name in ("Officers", "Crew")]
    return ldap.ldif_of([*ldap.top(), *entries, *groups, ldap.group("Afloat", afloat)])


def _sold(units: Sequence[sc.Unit]) -> list[dict[str, object]]:
    """Devices as a reseller delivers them."""
    return [
        {
            "serial": unit.hardware.serial,
            "imei": unit.hardware.imei,
            "maker": unit.hardware.maker,
            "model": unit.hardware.model,
            "platform": unit.hardware.platform.value,
            "blank": False,
        }
        for unit in units
    ]


def fill(shelf: Shelf, scenario: sc.Scenario, swept: Sequence[sc.Unit]) -> None:
    """What the reseller delivered: all tablets but nine, and laptops, some retired since."""
    shelf.add_server(SERVER)
    tablets = _sold(scenario.tablets)
    for device in tablets[40:45]:
        device["model"] = "Deckhand 8 Plus"
    shelf.deliver(RESELLER, "WL-2502", tablets[9:], "2025-02-24T08:00:00+00:00")
    shelf.deliver(RESELLER, "WL-2411", _sold(swept[:6]), "2024-11-12T08:00:00+00:00")


def deliver_news(shelf: Shelf) -> None:
    """Twelve tablets that nobody has looked at since the token ended."""
    random = Random(77_003)
    devices = [
        {
            "serial": numbers.serial(random, "KLM"),
            "imei": numbers.imei(random),
            "maker": "Kelmar",
            "model": "Deckhand 11",
            "platform": "android",
        }
        for _ in range(12)
    ]
    shelf.deliver(RESELLER, "WL-2602", devices, "2026-01-14T08:00:00+00:00")


def yard_list(scenario: sc.Scenario) -> bytes:
    """The repair yard's own list of the contractors' tablets: typed from labels."""
    rows = [["equipment no", "maker", "model", "site"]]
    for place, unit in enumerate(scenario.partner):
        serial = unit.hardware.serial
        if place < 3:
            serial = _misread(serial)
        site = "Quillharbour" if place in (5, 6, 7, 8) else unit.site
        rows.append([serial, unit.hardware.maker, unit.hardware.model, site])
    rows += [["KLM55500101", "Kelmar", "Deckhand 8", sc.YARD], ["KLM55500102", "Kelmar", "", ""]]
    return sc.as_csv(rows)


def _misread(serial: str) -> str:
    """The last digit that looks like a letter, as that letter; else the last two swapped."""
    for digit, letter in (("0", "O"), ("1", "I"), ("5", "S"), ("8", "B")):
        place = serial.rfind(digit)
        if place > 2:
            return serial[:place] + letter + serial[place + 1 :]
    return serial[:-2] + serial[-1] + serial[-2]


def connect_registry(s: Sortitor, outside: Outside, at: At) -> None:
    """A year ago: the registry trusts the service, and assigns it everything."""
    at(_TOKEN_AT)
    made = s.sources.add(
        Source(
            name=REGISTRY,
            kind=SourceKind.REGISTRY,
            address=outside.registry,
            covers='supplier eq "Chandlers & Co" and platform eq "android" and model sw "Deckhand"',
            every_minutes=240,
            fresh_hours=24,
        )
    )
    outside.shelf.add_server(SERVER)
    token = outside.shelf.make_token(SERVER, s.sources.make_key(made.id).encode())
    s.sources.give(made.id, token)
    asked = RegistryActAsked(act=RegistryAct.ASSIGN, reseller=RESELLER)
    s.registries.act(made.id, asked, s.registries.preview(made.id, asked).digest)


def read_them_all(
    s: Sortitor, scenario: sc.Scenario, swept: Sequence[sc.Unit], outside: Outside, at: At
) -> None:
    """The last weeks: the yard's list of December, the registry until its token ended, the
    directory of this morning.
    """
    at(_YARD_AT)
    yard = s.sources.add(
        Source(
            name=YARD,
            kind=SourceKind.ROSTER,
            columns=("serial=equipment no",),
            covers='ownership eq "partner"',
            fresh_hours=720,
        )
    )
    with sc.file("yard.csv", yard_list(scenario)) as path:
        s.sources.take_file(yard.id, path, s.sources.preview_file(yard.id, path).digest)
    at(_LAST_GOOD_AT)
    fill(outside.shelf, scenario, swept)
    _run(s, REGISTRY)
    deliver_news(outside.shelf)
    at(sc.TODAY)
    _run(s, REGISTRY)
    _run(s, ISSUER)
    if outside.directory is not None:
        _read_directory(s, outside.directory)
    s.levels.compare()


def _read_directory(s: Sortitor, directory: Directory) -> None:
    made = s.sources.add(
        Source(
            name=DIRECTORY,
            kind=SourceKind.DIRECTORY,
            address=directory.address,
            branches=(f"ou=people,{BASE}", f"ou=groups,{BASE}"),
            bind_name=ROOT,
            authority=directory.authority,
            signs_in_by=Login.USER_NAME,
            every_minutes=60,
            fresh_hours=24,
        )
    )
    s.sources.give(made.id, PASSWORD)
    _run(s, made.name)


def _asked(s: Sortitor, name: str) -> Job:
    """A run of a source; one that is due may be read by its schedule at this very moment."""
    for _ in range(_PATIENCE_SECONDS):
        try:
            return s.sources.run(name)
        except Refused as refused:
            if refused.problem.code != "runs_already":
                raise
            time.sleep(1)
    return s.sources.run(name)


def _run(s: Sortitor, name: str) -> None:
    try:
        s.jobs.follow(_asked(s, name), lambda job: None)
    except Refused:
        # The registry's token has ended: that is the story.
        if name != REGISTRY:
            raise
