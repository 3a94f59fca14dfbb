"""The walk of whoever levels the books: a registry's token that ended is renewed, the registry is
read, discrepancies are mended and one is accepted, in the browser.
"""

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect
from tests.console.test_console import confirm
from tests.sources import SERVER, add_registry, bought, deliver, run
from tests.worlds import World, manifest

from sortitor.core.sources import Source
from sortitor.core.vocabulary import GapState, RegistryAct, SourceKind
from sortitor.schemas.sources import RegistryActAsked
from sortitor.stand_ins.registry.serve import serving
from sortitor.stand_ins.registry.shelf import Shelf


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """A service that may ask this machine, with a worker."""
    return make_world(source_networks="127.0.0.0/8", worker=True)


@pytest.fixture
def registry(world: World) -> Iterator[str]:
    """A registry whose clock is the service's."""
    with serving(Shelf("Harbour", now=lambda: world.now)) as url:
        yield url


def test_the_books_are_levelled(page: Page, world: World, registry: str, tmp_path: Path) -> None:
    s = world.client()
    source = add_registry(s, registry)
    asked = RegistryActAsked(act=RegistryAct.ASSIGN, reseller="Harbour Tools")
    deliver(registry, "WL-1", bought(4))
    s.registries.act(source, asked, s.registries.preview(source, asked).digest)
    run(s, source)
    yard = s.sources.add(Source(name="Yard list", kind=SourceKind.ROSTER)).id
    lines = ["serial,maker,site", "HS2OOOOOO1,Ondry,", "HS20000002,Ondry,Tarn", "XX55555,,"]
    world.rows("UPDATE devices SET site = 'Quill'")
    path = manifest(tmp_path, lines, "yard.csv")
    s.sources.take_file(yard, path, s.sources.preview_file(yard, path).digest)
    # A year and nine days later.
    world.later(days=374)
    deliver(registry, "WL-2", bought(2, start=5))

    page.goto("/sources")
    page.get_by_role("link", name="Harbour registry").click()
    expect(page.get_by_text("ended 9 days ago")).to_be_visible()
    page.get_by_role("button", name="Run now").click()
    expect(page.get_by_text("What was known before stands.")).to_be_visible()
    page.get_by_role("button", name="Make a key pair").click()
    certificate = page.get_by_label("Certificate", exact=True)
    expect(certificate).to_have_value(re.compile("BEGIN CERTIFICATE"))
    form = {"server": SERVER, "certificate": certificate.input_value()}
    token = httpx.post(f"{registry}/token", data=form).text
    page.get_by_role("button", name="Give a credential").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Token or certificate").fill("hello")
    dialog.get_by_role("button", name="Take it in").click()
    expect(dialog.get_by_role("alert")).to_contain_text("This is no token of a registry")
    dialog.get_by_label("Token or certificate").fill(token)
    dialog.get_by_role("button", name="Take it in").click()
    expect(page.get_by_text("A token of Harbour for Wrenmoor fleet.")).to_be_visible()
    page.get_by_role("button", name="Preview a run").click()
    expect(
        page.get_by_role("dialog").get_by_text("devices that become awaited here")
    ).to_be_visible()
    confirm(page, "Read “Harbour registry”")
    expect(page.get_by_text("fresh", exact=True)).to_be_visible()
    assert s.devices.count() == 6

    page.goto("/levels?kind=unknown&near=true")
    page.get_by_label("Choose all shown").check()
    page.get_by_role("button", name="it is the similar one").click()
    confirm(page, "It is the similar one (1 device)")
    expect(page.get_by_text("None: the books are level.")).to_be_visible()
    page.goto("/levels?kind=differs")
    page.get_by_label("Choose all shown").check()
    page.get_by_role("button", name="take their word").click()
    confirm(page, "Take their word (1 device)")
    expect(page.get_by_text("None: the books are level.")).to_be_visible()
    page.goto("/levels?state=open")
    page.get_by_label("Choose all shown").check()
    page.get_by_role("button", name="Decide about them").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Whose business it is").fill("Maud")
    dialog.get_by_role("button", name="Decide (1)").click()
    expect(page.get_by_text("nothing open: the books are level")).to_be_visible()
    [accepted] = s.levels.list()
    assert (accepted.state, accepted.owner, accepted.label) == (
        GapState.ACCEPTED,
        "Maud",
        "XX55555",
    )
    # Every number leads to its devices.
    page.goto("/levels")
    page.get_by_role("button", name="known by").first.click()
    expect(page.get_by_role("heading", name="Known by")).to_be_visible()
