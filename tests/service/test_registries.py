"""Registries: trust, runs by cursor with whatever goes wrong on the way, and acts."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import timedelta

import httpx
import pytest
from tests.sources import (
    SERVER,
    add_registry,
    bought,
    deliver,
    faults,
    run,
    token_of,
)
from tests.worlds import NOW, World

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RegistryAct, RunState, SourceKind, SourceState
from sortitor.schemas.sources import RegistryActAsked
from sortitor.stand_ins.registry.serve import serving
from sortitor.stand_ins.registry.shelf import Shelf

LOOPBACK = "127.0.0.0/8"


@pytest.fixture
def shelf() -> Shelf:
    """The books of a registry."""
    return Shelf("Harbour", now=lambda: NOW)


@pytest.fixture
def registry(shelf: Shelf) -> Iterator[str]:
    """A registry's address."""
    with serving(shelf, seed=1) as url:
        yield url


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """A service that may ask this machine, with a worker."""
    return make_world(source_networks=LOOPBACK, worker=True)


@pytest.fixture
def s(world: World) -> Sortitor:
    """A coordinator's client."""
    return world.client()


def test_new_devices_become_awaited_with_their_declaration(s: Sortitor, registry: str) -> None:
    """A run makes a lot of what is new; what is known is joined and not doubled."""
    source = add_registry(s, registry)
    deliver(registry, "WL-1", bought(3))
    assign(s, source, "Harbour Tools")
    done = run(s, source)
    assert done.state is RunState.DONE
    assert done.counts == {"devices_added": 3}
    devices = list(s.devices.list())
    assert {(d.serial, d.stage, d.ownership) for d in devices} == {
        (f"HS2000000{n}", "awaited", "corporate") for n in (1, 2, 3)
    }
    assert len(list(s.devices.list(filter='order eq "WL-1"'))) == 3
    assert s.sources.show(source).unknown == 0
    assert done.lot_id is not None
    # The lot is taken back like any other.
    preview = s.lots.preview_revert(done.lot_id)
    s.lots.revert(done.lot_id, preview.digest)
    assert list(s.devices.list()) == []
    # What somebody took back does not come again by itself.
    assert run(s, source).lot_id is None
    assert list(s.devices.list()) == []


def assign(s: Sortitor, source: str, reseller: str) -> None:
    """Take everything that a reseller delivers, now and later."""
    asked = RegistryActAsked(act=RegistryAct.ASSIGN, reseller=reseller)
    s.registries.act(source, asked, s.registries.preview(source, asked).digest)


def test_a_cursor_brings_changes_alone(s: Sortitor, registry: str) -> None:
    """The second run is told only what is new, changed or gone."""
    source = add_registry(s, registry)
    assign(s, source, "Harbour Tools")
    deliver(registry, "WL-1", bought(5))
    run(s, source)
    deliver(registry, "WL-2", bought(2, start=6))
    asked = RegistryActAsked(act=RegistryAct.RELEASE, devices=["HS20000001"])
    preview = s.registries.preview(source, asked)
    assert "only the reseller" in preview.warnings[0]
    s.registries.act(source, asked, preview.digest)
    # The device's own timeline tells of it; the journal's entry names no numbers.
    [device] = s.devices.list(filter='serial eq "HS20000001"')
    assert "Release for good" in s.devices.show(device.id).timeline[0].summary
    [entry] = s.journal.list(operation="registry.act", most=1)
    assert entry.after == {"act": "release", "done": 1, "refused": 0}
    done = run(s, source, whole=False)
    assert done.counts == {"devices_added": 2, "devices_gone": 1}
    assert not done.whole
    assert s.sources.show(source).devices == 6
    # Cursors that have lapsed make the run a whole one, with the same outcome.
    httpx.post(f"{registry}/office/lapse")
    deliver(registry, "WL-3", bought(1, start=8))
    assert run(s, source, whole=False).counts == {"devices_added": 1}
    assert s.sources.show(source).devices == 7


def test_a_page_that_fails_leaves_the_former_roster(s: Sortitor, registry: str) -> None:
    """A run is whole or nothing, and the state says so."""
    source = add_registry(s, registry)
    assign(s, source, "Harbour Tools")
    deliver(registry, "WL-1", bought(3))
    run(s, source)
    deliver(registry, "WL-2", bought(3, start=4))
    faults(registry, fails=1)
    with pytest.raises(Refused) as refused:
        run(s, source)
    assert refused.value.problem.code == "page_fails"
    shown = s.sources.show(source)
    assert (shown.state, shown.devices) == (SourceState.FAILING, 3)
    assert shown.last_problem is not None
    assert shown.last_problem["code"] == "page_fails"
    # Some pages fail, some are cut off, the registry is busy: the run waits and comes through.
    faults(registry, fails=0.2, cut=0.1, busy=0.2, retry_after=0.05)
    assert run(s, source).counts == {"devices_added": 3}
    assert s.sources.show(source).state is SourceState.FRESH
    # A clock that is wrong is told, and no more.
    faults(registry, skew_minutes=20)
    assert [remark.code for remark in run(s, source).remarks] == ["clock"]


def test_the_year_of_a_token(world: World, s: Sortitor, registry: str, shelf: Shelf) -> None:
    """Renewed before its end and after it, for another key, again, of another registry."""
    made = s.sources.add(Source(name="R", kind=SourceKind.REGISTRY, address=registry))
    with pytest.raises(Refused) as refused:
        run(s, "R")
    assert refused.value.problem.code == "no_token"
    first = s.sources.make_key(made.id)
    token = token_of(registry, first)
    taken = s.sources.give("R", token)
    assert taken.words[0] == "A token of Harbour for Wrenmoor fleet."
    assert run(s, "R").state is RunState.DONE
    # Replayed, and broken.
    for text, code in ((token, "token_again"), (token[:-4] + "AAAA", "token_of_another_key")):
        with pytest.raises(Refused) as refused:
            s.sources.give("R", text)
        assert refused.value.problem.code == code
    # Renewing with a new key: the one in use works until the new token is here.
    second = s.sources.make_key(made.id)
    assert second != first
    assert s.sources.certificate("R") == second
    assert run(s, "R").state is RunState.DONE
    renewed = token_of(registry, second)
    with pytest.raises(Refused) as refused:
        run(s, "R")
    assert refused.value.problem.code == "token_refused"
    s.sources.give("R", renewed)
    assert run(s, "R").state is RunState.DONE
    assert [(one.kind, one.waiting) for one in s.sources.show("R").secrets] == [
        ("key", False),
        ("token", False),
    ]
    # An older one, though it was never used, and one of another registry.
    with serving(Shelf("Elsewhere", now=lambda: NOW)) as other:
        with pytest.raises(Refused) as refused:
            s.sources.give("R", token_of(other, second))
        assert refused.value.problem.code == "token_of_another"
    # Its end.
    ended = token_of(registry, second, days=1)
    s.sources.give("R", ended)
    shelf.servers[SERVER].token_ends_at = (NOW - timedelta(days=9)).isoformat()
    with pytest.raises(Refused) as refused:
        run(s, "R")
    assert refused.value.problem.code == "token_refused"
    assert s.sources.show("R").state is SourceState.FAILING
    s.sources.give("R", token_of(registry, second))
    assert run(s, "R").state is RunState.DONE


def test_a_device_that_was_set_up_does_not_come_in(s: Sortitor, registry: str) -> None:
    """Only blank devices of the registry's own resellers can be brought in."""
    source = add_registry(s, registry)
    deliver(registry, "WL-1", [bought(1)[0], {**bought(1, 2)[0], "blank": False}])
    asked = RegistryActAsked(
        act=RegistryAct.BRING_IN, devices=["HS20000001", "HS20000002", "NOBODY1"]
    )
    preview = s.registries.preview(source, asked)
    assert [count.count for count in preview.counts] == [1, 2]
    assert any("not blank" in warning for warning in preview.warnings)
    s.registries.act(source, asked, preview.digest)
    assert [held.assigned_to for held in s.registries.find(source, "WL-1")] == [None, SERVER]
    sheet = {"schema": 1, "skip": ["siri"]}
    asked = RegistryActAsked(act=RegistryAct.SET_SHEET, devices=["HS20000001"], sheet=sheet)
    s.registries.act(source, asked, s.registries.preview(source, asked).digest)
    run(s, source)
    [line] = s.sources.devices(source)
    assert len(line.extra["sheet_digest"]) == 64
