"""What the company's devices get: kits for vessels, gangways, quays and offices, with three lints
left for the visitor to mend, and how far some devices are with them.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import Any

from sortitor.client import Sortitor
from sortitor.core.vocabulary import FirstStep, GivenAs, Reach
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.kits import Checklist, Given, Item, Kit, SetupSheet
from sortitor.stand_ins import kits as stand_in

OURS, LAPTOPS = "Company devices", "Office laptops"
HANDHELDS, SCANNERS, DISPLAYS = "Crew handhelds", "Ticket scanners", "Harbour displays"
OWN = "Own phones"
#: For how long devices have been busy, and in how many steps.
_MINUTES, _STEPS = 30, 10


def _setting(name: str, key: str, value: Any, **beside: Any) -> dict[str, Any]:
    payload = {"kind": "setting", "setting": key, "value": value}
    return {"name": name, "payload": payload, **beside}


def _network(name: str, ssid: str, **how: Any) -> dict[str, Any]:
    return {"name": name, "payload": {"kind": "network", "ssid": ssid, **how}}


def _file(name: str, size: int, **beside: Any) -> dict[str, Any]:
    digest = hashlib.sha256(name.encode()).hexdigest()
    slug = name.lower().replace(" ", "-")
    address = f"https://files.wrenmoor.example/{slug}"
    return {
        "name": name,
        "payload": {"digest": digest, "size": size, "address": address, **beside},
    }


ITEMS: tuple[dict[str, Any], ...] = (
    _setting("Ask for a code", "screen-lock", True),
    _setting("Lock after ten minutes", "lock-after", 10),
    _setting("Encrypt the storage", "storage-encrypted", True),
    _setting("Updates at night", "updates-by-themselves", "night"),
    _setting("No pictures of the screen", "screenshots", "refused"),
    _setting("Only the ticket app", "single-app", "no.wrenmoor.tickets"),
    _setting("Only the timetable page", "single-page", "https://wrenmoor.example/times"),
    _setting("Stay awake on the quay", "sleep-plugged", 0),
    _setting("Start page of the office", "browser-home", "https://desk.wrenmoor.example"),
    _network("Deck Wi-Fi", "Wrenmoor Deck", security="secret", secret="two lights and a bell"),
    _network("Gangway Wi-Fi", "Wrenmoor Gangway", security="secret", secret="mind the last step"),
    # The lint: somebody has to type a password, and nobody is at a display.
    _network("Harbour Wi-Fi", "Wrenmoor Quay", security="password"),
    {
        "name": "Crew mail",
        "payload": {
            "kind": "account",
            "service": "mail",
            "server": "mail.wrenmoor.example",
            "port": 993,
        },
    },
    _file("Ticket app", 86_400_000, kind="app", identifier="no.wrenmoor.tickets"),
    _file("Deck plans", 12_600_000, kind="document", file_name="deck-plans.pdf"),
    _file("Harbour map", 4_100_000, kind="document", file_name="harbour-map.pdf"),
    {
        "name": "System of the scanners",
        "payload": {"kind": "firmware", "wanted": "13"},
        "platforms": {"android": ""},
        "note": "The ticket app asks for it from summer on",
    },
    {
        "name": "Printer of the office",
        "payload": {
            "kind": "script",
            "platform": "windows",
            "text": "Add-Printer -ConnectionName \\\\print.wrenmoor.example\\office\r\n",
        },
    },
)


_SAFETY = """Safety card of the crew handhelds

1. The handheld stays on its strap on deck.
2. Man overboard: press the side button three times, then call the bridge.
3. Wet hands: lay it down, dry them, and begin again.
4. Found one? Bring it to the purser. Wrenmoor Lines, device desk.
"""


def _safety_card(s: Sortitor) -> Item:
    """A document that is kept here; the others lie elsewhere."""
    with TemporaryDirectory() as folder:
        path = Path(folder) / "safety-card.txt"
        path.write_text(_SAFETY, encoding="utf-8")
        kept = s.files.put(path)
    payload = {"kind": "document", "file_name": kept.name, "digest": kept.digest, "size": kept.size}
    return Item.model_validate({"name": "Safety card", "payload": payload})


def _to(*cohorts: str, word: GivenAs = GivenAs.REQUIRED) -> tuple[Given, ...]:
    return tuple(Given(cohort=cohort, word=word) for cohort in cohorts)


KITS = (
    Kit(
        name="Every company device",
        position=90,
        items=("Ask for a code", "Lock after ten minutes", "Encrypt the storage"),
        given=(*_to(OURS), *_to(DISPLAYS, word=GivenAs.EXCLUDED)),
        note="Displays stand open on the quay, so they are left out",
    ),
    Kit(
        name="On board",
        position=40,
        items=("Deck Wi-Fi", "Crew mail", "Deck plans", "Safety card", "Updates at night"),
        given=_to(HANDHELDS),
    ),
    Kit(
        name="At the gangway",
        position=20,
        items=(
            "Gangway Wi-Fi",
            "Ticket app",
            "Only the ticket app",
            "No pictures of the screen",
            "System of the scanners",
        ),
        given=_to(SCANNERS),
        note="Scanners that nobody carries",
    ),
    Kit(
        name="On the quay",
        position=30,
        items=("Harbour Wi-Fi", "Only the timetable page", "Stay awake on the quay"),
        given=_to(DISPLAYS),
    ),
    Kit(
        name="In the office",
        position=50,
        items=("Updates at night", "Start page of the office", "Printer of the office"),
        given=_to(LAPTOPS),
    ),
)
SHEETS = (
    SetupSheet(
        name="Gangway scanner",
        position=10,
        reach=Reach.SHARED,
        skipped=(FirstStep.ACCOUNT, FirstStep.PAYMENT, FirstStep.ASSISTANT),
        given=_to(SCANNERS),
    ),
    SetupSheet(
        name="Office laptop",
        position=50,
        local_administrator="desk",
        skipped=(FirstStep.PAYMENT,),
        given=_to(LAPTOPS),
    ),
    # The lint: it takes the whole of somebody's own phone.
    SetupSheet(name="Seasonal phone", position=60, locked=False, given=_to(OWN)),
)
CHECKLISTS = (
    # The lint: the map is waited for, and nobody gave it to scanners.
    Checklist(
        name="Before the first ticket",
        position=10,
        items=("Gangway Wi-Fi", "Ticket app", "Only the ticket app", "Harbour map"),
        limit_minutes=30,
        message="The scanner gets ready. Leave it on the charger.",
        given=_to(SCANNERS),
    ),
    Checklist(
        name="Before going on board",
        position=20,
        items=("Ask for a code", "Deck Wi-Fi", "Deck plans"),
        limit_minutes=45,
        given=_to(HANDHELDS),
    ),
)


def prepare(s: Sortitor) -> None:
    """Write down what devices get."""
    mine = 'ownership eq "corporate"'
    s.cohorts.add(Cohort(name=OURS, filter=mine, note="Whatever the company owns"))
    s.cohorts.add(Cohort(name=LAPTOPS, filter=f'platform eq "windows" and {mine}'))
    for item in ITEMS:
        s.items.add(Item.model_validate(item))
    s.items.add(_safety_card(s))
    # Offered to those who help out at the harbour.
    map_ = s.items.show("Harbour map")
    given = _to(HANDHELDS, word=GivenAs.OFFERED)
    known = {name: getattr(map_, name) for name in Item.model_fields}
    s.items.edit(map_.id, Item.model_validate({**known, "given": given}))
    for kit in KITS:
        s.kits.add(kit, s.kits.preview_add(kit).digest)
    for sheet in SHEETS:
        s.setup_sheets.add(sheet)
    for checklist in CHECKLISTS:
        s.checklists.add(checklist)


def work_through(
    s: Sortitor, credentials: Sequence[str], at: Callable[[datetime], None], now: datetime
) -> None:
    """Some devices fetch what they get and work it through, each step some minutes later."""
    random = Random(41)
    devices = [stand_in.Worker(s, credential, random) for credential in credentials]
    begun = now - timedelta(minutes=_MINUTES)
    at(begun)
    for device in devices:
        device.fetch()
    for step in range(1, _STEPS + 1):
        at(begun + timedelta(minutes=_MINUTES * step / (_STEPS + 1)))
        for device in devices:
            device.step()
    at(now)
