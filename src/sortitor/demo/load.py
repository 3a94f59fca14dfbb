"""Loading the scenario through the public interfaces, chapter by chapter, as a coordinator would
have done it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from random import Random

from sortitor.client import Sortitor
from sortitor.core.vocabulary import (
    Act,
    Activation,
    Listed,
    Ownership,
    Platform,
    Returning,
    Role,
    SignInWay,
)
from sortitor.demo import kits
from sortitor.demo import scenario as sc
from sortitor.demo.outside import (
    Outside,
    connect_registry,
    read_them_all,
    trust_issuer,
    use_voucher,
)
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.gate import Listing, PlatformRule, Policy, Quota, VersionBounds
from sortitor.schemas.holds import HoldNew
from sortitor.schemas.licences import Pool
from sortitor.schemas.naming import Template
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.passes import PassTerms
from sortitor.schemas.selection import Selection
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.terms import Form, Terms, TermsText
from sortitor.schemas.welcome import Greeting, WelcomeCard
from sortitor.stand_ins import fleet, numbers
from sortitor.stand_ins.fleet import Behaviour, Hardware

#: Account → password. Only the demonstration has known passwords.
ACCOUNTS = {
    "administrator": "wrenmoor-admin-1",
    "coordinator": "wrenmoor-coord-1",
    "technician": "wrenmoor-tech-1",
    "viewer": "wrenmoor-view-1",
}

GATE = [
    Policy(
        name="Seasonal crew",
        groups=("Seasonal crew",),
        platforms={
            Platform.ANDROID: PlatformRule(versions=VersionBounds(oldest="12")),
            Platform.IOS: PlatformRule(versions=VersionBounds(oldest="16")),
            Platform.WINDOWS: PlatformRule(open=False),
        },
        quota=Quota(devices=2),
        note="They bring their own phones in April and take them home in October",
    ),
    Policy(
        name="Gangway scanners",
        devices='supplier eq "Ondry Trade"',
        platforms={
            Platform.ANDROID: PlatformRule(
                versions=VersionBounds(oldest="11"),
                models=Listing(listed=Listed.ONLY, names=("Halyard S2",)),
            )
        },
        note="Nobody carries them",
    ),
    Policy(name="Officers", groups=("Officers",), quota=Quota(devices=4)),
    Policy(
        name="Baseline",
        platforms={
            Platform.ANDROID: PlatformRule(
                open=True, versions=VersionBounds(oldest="10", newest="15")
            ),
            Platform.IOS: PlatformRule(open=True, versions=VersionBounds(oldest="15")),
            Platform.WINDOWS: PlatformRule(
                open=True,
                versions=VersionBounds(oldest="10.0.19045"),
                ownerships=(Ownership.CORPORATE,),
                quota=Quota(devices=2, ownerships=(Ownership.CORPORATE,)),
            ),
            Platform.MACOS: PlatformRule(open=False),
            Platform.LINUX: PlatformRule(open=True, versions=VersionBounds(oldest="5")),
        },
        ownerships=(Ownership.CORPORATE, Ownership.PERSONAL, Ownership.PARTNER),
        quota=Quota(devices=3),
        declared_only=False,
        returning=Returning.PARK,
    ),
]

TEMPLATES = [
    Template(
        name="Laptops",
        pattern='WL-{person_department|upper|letters|first 3|or "GEN"}-{serial|last 6}',
        platforms=(Platform.WINDOWS,),
    ),
    Template(
        name="Displays",
        pattern="{site|upper|letters|first 5}-SIGN-{n|pad 3}",
        platforms=(Platform.LINUX,),
    ),
    Template(
        name="Phones and tablets",
        pattern='{model|ascii|upper|letters|or "DEVICE"}-{n|pad 4}-{check}',
    ),
]

SIGNAGE = "Harbour signage"

Say = Callable[[str], None]
#: The newest code that was mailed to an address.
ReadCode = Callable[[str], str | None]


def load(
    s: Sortitor,
    scenario: sc.Scenario,
    at: Callable[[datetime], None],
    say: Say,
    read_code: ReadCode,
    outside: Outside,
) -> None:
    """Tell the company's year; `at` sets the service's clock, `read_code` reads somebody's mails.

    The client must be signed in as administrator.
    """
    lived: list[tuple[str, sc.Unit]] = []
    at(datetime(2024, 11, 4, 8, 30, tzinfo=UTC))
    _set_up(s, scenario, say)
    at(datetime(2024, 11, 20, 7, 45, tzinfo=UTC))
    say("Laptops, scanners and displays arrive")
    lived += _arrive(s, "Laptops for everybody", scenario.laptops, ownership=Ownership.CORPORATE)
    lived += _arrive(
        s,
        "Ticket scanners at the gangways",
        scenario.scanners,
        ownership=Ownership.CORPORATE,
        activation=Activation.SHARED,
    )
    lived += _arrive(
        s,
        "Harbour displays",
        scenario.displays,
        ownership=Ownership.CORPORATE,
        activation=Activation.SHARED,
    )
    trust_issuer(s, outside)
    share = scenario.devices / 2_400
    ordered = "ordered with the displays"
    use_voucher(s, outside, SIGNAGE, round(130 * share), 600, Act.TOP_UP, ordered)
    connect_registry(s, outside, at)
    at(datetime(2025, 3, 10, 8, 0, tzinfo=UTC))
    say("Deck tablets, officers' phones and the yard's contractors arrive")
    _lot(
        s,
        "Deck tablets",
        sc.manifest(scenario.tablets, "WL-2502", "2025-02-24"),
        ownership="corporate",
        platform="android",
        supplier="Chandlers & Co",
    )
    _lot(
        s,
        "Officers' phones",
        sc.old_manifest(scenario.officers, "WL-2503", "2025-03-03"),
        ownership="corporate",
        supplier="Chandlers & Co",
    )
    lived += _arrive(
        s,
        "Deck tablets",
        scenario.tablets,
        ownership=Ownership.CORPORATE,
        activation=Activation.SHARED,
    )
    lived += _arrive(s, "Officers' phones", scenario.officers, ownership=Ownership.CORPORATE)
    lived += _arrive(
        s,
        "Yard contractors",
        scenario.partner,
        ownership=Ownership.PARTNER,
        activation=Activation.SHARED,
    )
    at(datetime(2025, 4, 7, 6, 15, tzinfo=UTC))
    say("The seasonal crew brings its own phones")
    _people(s, scenario.seasonal)
    lived += _arrive(s, "Seasonal crew, April week", scenario.personal)
    _door_texts(s)
    april = datetime(2025, 4, 7, 9, 40, tzinfo=UTC)
    _on_the_way(
        s, read_code, "Late for the April week", _APRIL, lambda day: at(april + timedelta(day))
    )
    at(datetime(2025, 9, 15, 10, 0, tzinfo=UTC))
    swept = _sweep_some_laptops(s, lived)
    at(datetime(2026, 1, 16, 14, 20, tzinfo=UTC))
    say("Winter: vessels laid up, a damaged manifest, devices that wait")
    _winter(s, scenario)
    _orders(s, scenario)
    seats = max(2, round(12 * share))
    hasty = use_voucher(s, outside, SIGNAGE, seats, 180, Act.ROLLOVER, "seats for the new quay")
    wrong = "rolled over by mistake: most displays had no seat"
    s.journal.revert(hasty, s.journal.preview_revert(hasty).digest, wrong)
    at(sc.TODAY)
    _last_seen(s, lived, swept)
    _at_the_door_today(s, scenario, swept, _in_use(lived, swept))
    _on_the_way(s, read_code, "Early season crew", _NEWCOMERS)
    say("What devices get: kits for vessels, gangways, quays and offices")
    kits.prepare(s)
    gone = {unit.hardware.serial for unit in swept}
    busy = [
        credential
        for credential, unit in lived
        if unit.quiet_days < 14 and unit.hardware.serial not in gone
    ]
    kits.work_through(s, busy[:: max(1, len(busy) // 120)], at, sc.TODAY)
    say("Other systems: a directory, a registry, a list of the yard")
    read_them_all(s, scenario, swept, outside, at)
    lent = s.cohorts.add(Cohort(name="Lent to the festival", note="Back by the end of March"))
    some = Selection(filter='cohorts eq "Crew handhelds" and stage eq "active" and site sw "P"')
    s.cohorts.change_list(
        lent.id,
        some,
        s.cohorts.preview_list(lent.id, some).digest,
        reason="agreed with the festival office",
    )


#: Cohort → who is in it, and what it is for.
COHORTS = (
    ("Harbour displays", 'platform eq "linux"', "Screens on the quays, which nobody carries"),
    ("Crew handhelds", 'platform eq "android" and person.groups eq "Crew"', None),
    (
        "Own phones",
        'ownership eq "personal" and (platform eq "android" or platform eq "ios")',
        "Read only what the person agreed to",
    ),
    (
        "Ticket scanners",
        'model sw "Halyard" and ownership eq "corporate"',
        "Awaited ones too, so that they are ready when they arrive",
    ),
    (
        "Old systems",
        (
            '(platform eq "android" and osVersion lt "13") or (platform eq "ios" and osVersion lt'
            ' "17")'
        ),
        "Ask their people to update",
    ),
    (
        "Quiet for a month",
        'idleDays ge 30 and (stage eq "active" or stage eq "dormant")',
        "Call them before the sweep does",
    ),
    ("Warranty ends soon", "daysToWarrantyEnd ge 0 and daysToWarrantyEnd le 60", None),
)


def _set_up(s: Sortitor, scenario: sc.Scenario, say: Say) -> None:
    say("People, gate, names, licences and sweep rules")
    for name in ("coordinator", "technician", "viewer"):
        s.accounts.add(name, ACCOUNTS[name], Role(name))
    _people(s, scenario.people)
    _people(s, [sc.Person("first.hand", "First Hand", "Catering", "Petrel", ("Seasonal crew",))])
    s.gate.apply(GATE, s.gate.preview(GATE).digest, "rules agreed with the masters")
    s.naming.save(TEMPLATES, "one scheme for the whole company")
    share = scenario.devices / 2_400
    s.pools.add(
        Pool(
            name=SIGNAGE,
            filter='platform eq "linux" and ownership eq "corporate"',
            grace_days=14,
            price=Decimal("4.20"),
            currency="EUR",
        )
    )
    s.pools.add(
        Pool(
            name="Deck and ticketing apps",
            seats=round(1_200 * share),
            filter='platform eq "android" and ownership eq "corporate"',
        )
    )
    s.pools.add(Pool(name="Office suite", seats=round(480 * share), filter='platform eq "windows"'))
    for name, text, note in COHORTS:
        s.cohorts.add(Cohort(name=name, filter=text, note=note))
    s.sweep_rules.add(
        Rule(
            name="Quiet phones and tablets",
            idle_window_days=90,
            dormant_days=14,
            remind_days=3,
            contacts=("Petrel=bridge.petrel@wrenmoor.example",),
            filter=(
                '(platform eq "android" or platform eq "ios") and not (cohorts eq "Harbour'
                ' displays")'
            ),
        )
    )
    s.sweep_rules.add(
        Rule(name="Quiet laptops", idle_window_days=180, filter='platform eq "windows"')
    )
    _lot(
        s,
        "Office and bridge laptops",
        sc.manifest(scenario.laptops, "WL-2411", "2024-10-28"),
        ownership="corporate",
        platform="windows",
        supplier="Pellworth direct",
    )
    _lot(
        s,
        "Ticket scanners, first delivery",
        sc.manifest(scenario.scanners, "WL-2412", "2024-10-30"),
        ownership="corporate",
        platform="android",
        supplier="Ondry Trade",
    )
    _lot(
        s,
        "Harbour displays",
        sc.manifest(scenario.displays, "WL-2413", "2024-10-30"),
        ownership="corporate",
        platform="linux",
        supplier="Brackwell",
    )


def _people(s: Sortitor, people: Sequence[sc.Person]) -> None:
    with sc.file("directory.csv", sc.people_csv(people)) as path:
        s.people.apply_import(path, s.people.preview_import(path).digest, "directory export")


def _lot(s: Sortitor, name: str, content: bytes, **defaults: str) -> None:
    with sc.file(
        name.lower().replace(" ", "-").replace(",", "").replace("'", "") + ".csv", content
    ) as path:
        lot = s.lots.check(path, name=name, defaults=defaults)
    s.lots.apply(lot.id, s.lots.preview(lot.id).digest, f"delivery of {name.lower()}")


def _arrive(
    s: Sortitor,
    label: str,
    units: Sequence[sc.Unit],
    ownership: Ownership | None = None,
    activation: Activation = Activation.PERSON,
) -> list[tuple[str, sc.Unit]]:
    """Let devices knock with a pass of their own, people's devices with one made for each of them;
    gives credential and unit of those let in.
    """
    terms = PassTerms(label=label, ownership=ownership, activation=activation, valid_days=30)
    people = sorted({unit.hardware.person for unit in units if unit.hardware.person})
    codes, code = {}, ""
    if people:
        made = s.passes.add_for_people(terms, people, mailed=False)
        codes = {one.person: one.code or "" for one in made}
    else:
        code = s.passes.add(terms).code
    answers = fleet.knock_all(s, code, [unit.hardware for unit in units], codes=codes)
    return [
        (answer.credential, unit)
        for unit, (_, answer) in zip(units, answers, strict=True)
        if answer.credential
    ]


def _sweep_some_laptops(s: Sortitor, lived: Sequence[tuple[str, sc.Unit]]) -> list[sc.Unit]:
    """In September the laptops of people long gone were swept; one of them will come back."""
    now = datetime(2025, 9, 15, 10, 0, tzinfo=UTC)
    laptops = [
        (credential, unit)
        for credential, unit in lived
        if unit.hardware.platform is Platform.WINDOWS
    ]
    gone = laptops[5 :: max(20, len(laptops) // 12)]
    quiet = {credential for credential, _ in gone}
    fleet.relay_all(
        s, ((credential, now, None) for credential, _ in lived if credential not in quiet)
    )
    rule = next(rule for rule in s.sweep_rules.list() if rule.name == "Quiet laptops")
    s.sweeps.apply(rule.id, s.sweeps.preview(rule.id).digest, "people who left in spring")
    return [unit for _, unit in gone]


def _winter(s: Sortitor, scenario: sc.Scenario) -> None:
    ship = sc.LAID_UP[0]
    chosen = (
        f'site eq "{ship}" and platform eq "android" and stage eq "active" and model sw "Deckhand"'
    )
    wanted = HoldNew(
        selection=Selection(filter=chosen),
        reason=f"{ship} is laid up for the winter",
        until_on=date(2026, 4, 12),
        owner="Harbour office",
    )
    s.holds.add(wanted, s.holds.preview(wanted).digest)
    damaged = sc.damaged_manifest(scenario.boxed, Random(7))
    with sc.file("scanners-second-delivery.xlsx", damaged) as path:
        s.lots.check(
            path,
            name="Ticket scanners, second delivery",
            defaults={
                "ownership": "corporate",
                "platform": "android",
                "maker": "Ondry",
                "model": "Halyard S2",
                "order_name": "WL-2601",
                "supplier": "Ondry Trade",
                "purchased_on": "2026-01-09",
            },
        )


def _orders(s: Sortitor, scenario: sc.Scenario) -> None:
    """What was ordered; the second delivery of scanners is short, and not applied yet."""
    s.orders.add(
        Order(
            name="WL-2502",
            supplier="Chandlers & Co",
            ordered_on=date(2025, 1, 20),
            lines=[
                OrderLine(product=model, quantity=quantity)
                for model, quantity in Counter(
                    unit.hardware.model for unit in scenario.tablets
                ).items()
            ],
        )
    )
    s.orders.add(
        Order(
            name="WL-2601",
            supplier="Ondry Trade",
            ordered_on=date(2025, 12, 15),
            lines=[
                OrderLine(
                    product="Halyard S2", quantity=len(scenario.boxed) + 10, price=Decimal("189.00")
                )
            ],
        )
    )


def _last_seen(s: Sortitor, lived: Sequence[tuple[str, sc.Unit]], swept: Sequence[sc.Unit]) -> None:
    gone = {unit.hardware.serial for unit in swept}
    seen = (
        (credential, sc.before_today(unit.quiet_days), None)
        for credential, unit in lived
        if unit.hardware.serial not in gone
    )
    fleet.relay_all(s, seen)


def _in_use(lived: Sequence[tuple[str, sc.Unit]], swept: Sequence[sc.Unit]) -> Hardware:
    """A phone that is in use today; somebody will reset it, and it will knock again."""
    gone = {unit.hardware.serial for unit in swept}
    phones = [
        unit.hardware
        for _, unit in lived
        if unit.hardware.platform is Platform.ANDROID and unit.hardware.serial not in gone
    ]
    return phones[-1]


def _at_the_door_today(
    s: Sortitor, scenario: sc.Scenario, swept: Sequence[sc.Unit], in_use: Hardware
) -> None:
    random = Random(11)
    crew = [p.user_name for p in scenario.people if "Crew" in p.groups]
    desk = s.passes.add(
        PassTerms(
            label="Help desk, January",
            ownership=Ownership.CORPORATE,
            activation=Activation.COORDINATOR,
            valid_days=21,
        )
    )
    waiting = [
        Hardware(
            Platform.ANDROID,
            "14",
            "Kelmar",
            "Mate 3",
            numbers.serial(random, "KM"),
            numbers.imei(random),
            None,
        )
        for _ in range(9)
    ]
    own = s.passes.add(PassTerms(label="Own devices, winter", valid_days=60))
    refused = [
        Hardware(
            Platform.ANDROID,
            "9",
            "Kelmar",
            "Mate 1",
            numbers.serial(random, "KM"),
            numbers.imei(random),
            crew[3],
        ),
        Hardware(
            Platform.MACOS,
            "15.1",
            "Pellworth",
            "Fathom Air",
            numbers.serial(random, "PW"),
            None,
            crew[4],
        ),
        Hardware(
            Platform.IOS,
            "14.8",
            "Tavik",
            "Lumen 2",
            numbers.serial(random, "TV"),
            numbers.imei(random),
            crew[5],
        ),
    ]
    returning = [unit.hardware for unit in swept[:1]]
    list(fleet.knock_all(s, desk.code, waiting + returning, at_once=1))
    list(fleet.knock_all(s, own.code, refused, at_once=1))
    # Without its credential, and in somebody else's name: a coordinator has to decide.
    other = s.passes.add(PassTerms(label="New phone", person=crew[6], valid_days=21))
    list(fleet.knock_all(s, other.code, [replace(in_use, person=crew[6])], at_once=1))


#: How newcomers take the way in.
_WAYS = (
    Behaviour.FINISHES,
    Behaviour.STOPS_HALFWAY,
    Behaviour.FAILS,
    Behaviour.GIVES_UP,
    Behaviour.WAITS,
    Behaviour.COMES_BACK,
    Behaviour.OLD_AGENT,
)


_NEWCOMERS = (
    "Ysolde Marrick",
    "Perran Coode",
    "Lowen Tregear",
    "Senara Holt",
    "Denzel Opie",
    "Elowen Faull",
    "Jory Penhale",
)


_APRIL = (
    "Massen Rodda",
    "Kerra Tonkin",
    "Digory Pascoe",
    "Tegen Varcoe",
    "Ruth Angwin",
    "Petroc Hale",
    "Wella Curnow",
)


def _door_texts(s: Sortitor) -> None:
    """What people read at the door, and the terms that the seasonal crew accepts."""
    s.terms.add(
        Terms(
            name="Devices on board",
            form=Form.MARKDOWN,
            texts=(
                TermsText(language="en", text=_RULES_EN),
                TermsText(language="de", text=_RULES_DE),
            ),
        )
    )
    card = WelcomeCard(
        organisation="Wrenmoor Lines",
        colour="#1d5c63",
        help_name="Device desk, Harbour House",
        help_phone="+44 1632 960 420",
        help_mail="devices@wrenmoor.example",
        help_hours="every day from 06:00 to 22:00",
        greetings=(
            Greeting(language="en", text="Good to have you on board."),
            Greeting(language="de", text="Schön, dass Sie an Bord sind."),
        ),
    )
    s.welcome.apply(card, s.welcome.preview(card).digest, "as the office wrote it")
    policies = list(s.gate.show().policies)
    policies[0] = policies[0].model_copy(update={"terms": ("Devices on board",)})
    s.gate.apply(policies, s.gate.preview(policies).digest, "from the new season on")


def _on_the_way(
    s: Sortitor,
    read_code: ReadCode,
    label: str,
    names: Sequence[str],
    next_day: Callable[[int], None] = lambda day: None,
) -> None:
    """Newcomers with their own phones, at every stage of the way in."""
    terms = PassTerms(label=label, sign_in=SignInWay.MAIL, asks_ownership=True, valid_days=30)
    code = s.passes.add(terms).code
    random = Random(label)
    people = [
        sc.Person(name.lower().replace(" ", "."), name, "Deck", "Petrel", ("Seasonal crew",))
        for name in names
    ]
    _people(s, people)
    for day, (person, behaviour) in enumerate(zip(people, _WAYS, strict=True)):
        next_day(day)
        device = Hardware(
            Platform.ANDROID,
            "14",
            "Tavik",
            "Lumen 5",
            numbers.serial(random, "TV"),
            numbers.imei(random),
            person.user_name,
        )
        fleet.Traveller(s, device, person.mail, read_code).arrive(code, behaviour)


_RULES_EN = """Your own phone may come on board. Please agree:

- Sortitor keeps its serial number and which system it runs.
- Nobody reads your messages, pictures or whereabouts.
- Tell the device desk when the phone is lost.
"""
_RULES_DE = """Ihr eigenes Telefon darf an Bord. Bitte stimmen Sie zu:

- Sortitor merkt sich die Seriennummer und welches System läuft.
- Niemand liest Ihre Nachrichten, Bilder oder Aufenthaltsorte.
- Sagen Sie der Gerätestelle, wenn das Telefon verloren ist.
"""
