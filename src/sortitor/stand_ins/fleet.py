"""A made-up fleet that speaks the agent protocol: it knocks and checks in over HTTP, as real
devices would.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Need, Outcome, Ownership, Platform
from sortitor.schemas.arrivals import (
    Knock,
    KnockAnswer,
    ProgressTold,
    RelayedCheckIn,
    WayAnswers,
)

_RELAY = 1_000


@dataclass(frozen=True, slots=True)
class Hardware:
    """What a device knows of itself, and who holds it."""

    platform: Platform
    os_version: str
    maker: str
    model: str
    serial: str
    imei: str | None = None
    person: str | None = None


def knock_all(
    s: Sortitor,
    code: str,
    fleet: Sequence[Hardware],
    at_once: int = 8,
    codes: Mapping[str, str] | None = None,
) -> Iterator[tuple[Hardware, KnockAnswer]]:
    """Let every device knock with a pass, a few at once, in order; `codes` are those of people who
    have a pass of their own, by user name.
    """

    def knock(device: Hardware) -> KnockAnswer:
        return s.agent.knock(_stated(device, (codes or {}).get(device.person or "", code), 2))

    with ThreadPoolExecutor(at_once) as pool:
        # A few at a time: a queue of thousands would have to be emptied before a stopped process
        # can end.
        for start in range(0, len(fleet), at_once):
            part = fleet[start : start + at_once]
            yield from zip(part, pool.map(knock, part), strict=True)


class Behaviour(StrEnum):
    """How a made-up device and its person take the way in."""

    #: Answers everything and is set up.
    FINISHES = "finishes"
    #: Is set up halfway and goes on later.
    STOPS_HALFWAY = "stops-halfway"
    #: Its setting up fails.
    FAILS = "fails"
    #: Its person never answers.
    GIVES_UP = "gives-up"
    #: Its person is sent a code and stops there.
    WAITS = "waits"
    #: Fails, and comes back to finish.
    COMES_BACK = "comes-back"
    #: Speaks the old protocol, which cannot be asked.
    OLD_AGENT = "old-agent"


_ITEMS = ("Certificates", "Network", "Mail", "Deck plans", "Ticket app", "Safety sheets")


@dataclass(frozen=True, slots=True)
class Traveller:
    """A device with its person, who takes the way in step by step over HTTP.

    `read_code` gives the newest code that was mailed to an address.
    """

    s: Sortitor
    device: Hardware
    mail: str
    read_code: Callable[[str], str | None]

    def arrive(self, code: str, behaviour: Behaviour) -> KnockAnswer:
        """Knock with a pass, answer what is asked and report the setting up; the last answer."""
        protocol = 1 if behaviour is Behaviour.OLD_AGENT else 2
        answer = self.s.agent.knock(_stated(self.device, code, protocol))
        if answer.outcome is Outcome.ASKED and answer.secret:
            answer = self._answer(answer, answer.secret, behaviour)
        if answer.credential:
            self._set_up(answer.credential, behaviour)
        return answer

    def _answer(self, asked: KnockAnswer, secret: str, behaviour: Behaviour) -> KnockAnswer:
        if behaviour is Behaviour.GIVES_UP:
            return asked
        if Need.SIGN_IN in asked.asks:
            self.s.agent.send_code(secret, self.device.person or self.mail)
            typed = None if behaviour is Behaviour.WAITS else self.read_code(self.mail)
            if typed is None:
                return asked
            self.s.agent.sign_in(secret, typed)
        way = self.s.agent.way(secret)
        if Need.OWNERSHIP in way.asks:
            mine = WayAnswers(ownership=Ownership.PERSONAL)
            way = self.s.agent.answer(secret, mine)
        if Need.TERMS in way.asks:
            accepted = {one.name: one.revision for one in way.terms}
            way = self.s.agent.answer(secret, WayAnswers(accepted=accepted))
        return asked if way.outcome is Outcome.ASKED else self.s.agent.collect(secret)

    def _set_up(self, credential: str, behaviour: Behaviour) -> None:
        total = len(_ITEMS)
        fails = behaviour in (Behaviour.FAILS, Behaviour.COMES_BACK)
        halfway = behaviour is Behaviour.STOPS_HALFWAY or fails
        for done, item in enumerate(_ITEMS[: total // 2 if halfway else total]):
            self._tell(credential, ProgressTold(done=done, total=total, doing=item))
        if fails:
            told = ProgressTold(done=total // 2, total=total, failed="Not enough space left")
            self._tell(credential, told)
        if behaviour in (Behaviour.FINISHES, Behaviour.COMES_BACK, Behaviour.OLD_AGENT):
            self._tell(credential, ProgressTold(done=total, total=total, finished=True))

    def _tell(self, credential: str, told: ProgressTold) -> None:
        self.s.agent.progress(credential, told)


def _stated(device: Hardware, code: str, protocol: int) -> Knock:
    return Knock(
        code=code,
        protocol=protocol,
        platform=device.platform,
        os_version=device.os_version,
        maker=device.maker,
        model=device.model,
        serial=device.serial,
        imeis=[device.imei] if device.imei else [],
        person=device.person,
    )


def relay_all(s: Sortitor, sightings: Iterable[tuple[str, datetime, str | None]]) -> int:
    """Hand in sightings `(credential, seen at, OS version)` as a relay does, a thousand at a time;
    gives how many were taken.
    """
    batch = [
        RelayedCheckIn(credential=credential, seen_at=seen_at, os_version=version)
        for credential, seen_at, version in sightings
    ]
    return sum(
        s.agent.relay(batch[start : start + _RELAY]).received
        for start in range(0, len(batch), _RELAY)
    )
