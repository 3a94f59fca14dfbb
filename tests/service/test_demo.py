"""The demonstration, started by its one command: what a newcomer meets in the first minute, and
meets again the next day.
"""

from __future__ import annotations

import re
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.processes import SORTITOR

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Stage


class Demonstration:
    """`sortitor demo` of a small company; `said` is all that it wrote."""

    def __init__(self, state: Path) -> None:
        self.state = state
        self.log = state.with_suffix(".log")
        self.start()

    def start(self) -> None:
        """Until it is ready, as on the first day or on a later one."""
        command = [SORTITOR, "demo", "--port", "0", "--devices", "200", "--state-dir"]
        with self.log.open("w") as log:
            self.process = subprocess.Popen(
                [*command, str(self.state)], stdout=log, stderr=subprocess.STDOUT, text=True
            )
        until = time.monotonic() + 200
        while (
            "Stop it with Ctrl-C" not in self.said
            and time.monotonic() < until
            and self.process.poll() is None
        ):
            time.sleep(0.1)
        assert "Stop it with Ctrl-C" in self.said, self.said

    @property
    def said(self) -> str:
        return self.log.read_text()

    def client(self, name: str) -> Sortitor:
        """Signed in with what was printed."""
        s = Sortitor(re.findall(r"ready at (http://\S+)", self.said)[-1])
        s.accounts.sign_in(name, re.findall(rf"^  {name} +(\S+)$", self.said, re.MULTILINE)[-1])
        return s

    def stop(self) -> None:
        """As Ctrl-C does."""
        if self.process.poll() is None:
            self.process.terminate()
        assert self.process.wait(60) == 0


@pytest.fixture(scope="module")
def company(open_folder: Path) -> Iterator[Demonstration]:
    made = Demonstration(open_folder / "company")
    yield made
    made.stop()


def test_there_is_something_of_everything(company: Demonstration) -> None:
    with company.client("coordinator") as s:
        by_stage = {stage: s.devices.count(filter=f'stage eq "{stage}"') for stage in Stage}
        assert 150 <= sum(by_stage.values()) <= 260
        assert all(by_stage[stage] for stage in (Stage.ACTIVE, Stage.PARKED, Stage.RETIRED)), (
            by_stage
        )
        assert {lot.status for lot in s.lots.list()} >= {"applied", "draft"}
        assert {group.name for group in s.groups.list()} >= {"Crew", "Officers", "Seasonal crew"}
        pools = list(s.pools.list())
        assert {pool.state for pool in pools} <= {"covered", "short"}
        assert all(s.devices.count(pool=pool.id) == pool.needed for pool in pools), (
            "every count leads to its devices"
        )
        cohorts = {cohort.name: cohort for cohort in s.cohorts.list()}
        assert all(
            s.devices.count(cohort=cohort.id) == cohort.devices for cohort in cohorts.values()
        )
        assert cohorts["Quiet for a month"].moving
        assert cohorts["Lent to the festival"].kind == "list"
        assert list(s.orders.list())
        assert {policy.name for policy in s.gate.show().policies} == {
            "Seasonal crew",
            "Gangway scanners",
            "Officers",
            "Baseline",
        }
        assert s.today.show().items, "something waits for a coordinator"


def test_names_people_and_makers_hold_together(company: Demonstration) -> None:
    with company.client("coordinator") as s:
        devices = list(s.devices.list())
        names = [
            device.name.lower()
            for device in devices
            if device.name and device.stage != Stage.RETIRED
        ]
        assert len(names) == len(set(names))
        assert len({(device.maker, device.serial) for device in devices if device.serial}) == sum(
            device.serial is not None for device in devices
        )
        assert s.devices.count(filter='stage eq "active" and enrolledAt eq null') == 0
        assert (
            s.devices.count(filter='stage eq "active" and lastSeenAt gt "2026-01-19T09:00:00Z"')
            == 0
        ), "nothing is seen after the day on which the clock stands"
        held = next(s.devices.list(filter="held eq true"))
        assert s.devices.show(held.id).holds


def test_accounts_may_what_their_names_say(company: Demonstration) -> None:
    with company.client("viewer") as s, pytest.raises(Refused, match="coordinator"):
        s.people.set_left(1, True)
    with company.client("administrator") as s:
        assert {account.name for account in s.accounts.list()} == {
            "administrator",
            "coordinator",
            "technician",
            "viewer",
        }


def test_it_is_there_again_the_next_day(company: Demonstration) -> None:
    assert "loaded in" in company.said
    with company.client("coordinator") as s:
        person = next(s.people.list())
        s.people.set_left(person.id, True)
        devices = s.devices.count()
    company.stop()
    assert not (company.state / "cluster" / "postmaster.pid").exists(), "the database goes with it"
    company.start()
    assert "loaded in" not in company.said
    with company.client("coordinator") as s:
        assert s.people.show(person.id).left_at is not None
        s.people.set_left(person.id, False)
        assert s.devices.count() == devices
