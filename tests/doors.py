"""A door to come in by: a service with a mailbox, and a worker's hand that the test moves."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import httpx
from tests.worlds import World, a_pass, import_people, in_a_loop, knocking

from sortitor.client import Sortitor
from sortitor.operations import mail
from sortitor.schemas.arrivals import KnockAnswer
from sortitor.server.wiring import mail_server
from sortitor.stand_ins.mailbox import Mailbox, MailServer

MAUD = "maud,Maud Fenwick,maud@wrenmoor.example,Deck,Dunlin,Crew"
ODO = "odo,Odo Gannet,odo@wrenmoor.example,Deck,Dunlin,Office"


@dataclass
class Door:
    """A world with a mailbox, and a worker's hand that is moved by the test."""

    world: World
    mailbox: Mailbox

    @property
    def s(self) -> Sortitor:
        return self.world.client()

    def send(self) -> list[mail.Tried]:
        """Send what waits."""
        run = self.world.run
        return list(mail.send_due(run.context("schedule"), mail_server(run.settings)))

    def code(self, address: str = "maud@wrenmoor.example") -> str:
        """The newest code that was mailed."""
        self.send()
        found = re.search(r"\d{6}", self.mailbox.to(address)[-1].get_content())
        assert found
        return found.group()

    def asked(self, serial: str = "KM-1", code: str | None = None, **stated: object) -> KnockAnswer:
        code = code or a_pass(self.s)
        return self.s.agent.knock(knocking(code, serial, protocol=2, **stated))


@contextmanager
def a_door(make_world: Callable[..., World], tmp_path: Path) -> Iterator[Door]:
    """A door that Maud of the crew and Odo of the office come in by."""
    with MailServer() as server:
        world = make_world(
            mail_host="127.0.0.1",
            mail_port=server.port,
            mail_security="none",
            mail_from="Devices <devices@wrenmoor.example>",
        )
        import_people(world.client(), tmp_path, MAUD, ODO)
        yield Door(world, server.mailbox)


def knock_at_once(urls: list[str], bodies: list[dict[str, object]]) -> list[httpx.Response]:
    """Every body at the same time, spread over the services."""

    async def all_of_them() -> list[httpx.Response]:
        async with httpx.AsyncClient(
            timeout=120, limits=httpx.Limits(max_connections=200)
        ) as client:
            return await asyncio.gather(
                *(
                    client.post(f"{urls[i % len(urls)]}/api/v1/agent/knock", json=body)
                    for i, body in enumerate(bodies)
                )
            )

    return in_a_loop(all_of_them())
