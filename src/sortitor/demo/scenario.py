"""Wrenmoor Lines, a made-up ferry and harbour company: its people, its devices, its year.

Everything comes from one seed and is counted back from one fixed today, so that it is the same each
time.
No company, brand, place or person in it is real.
"""

from __future__ import annotations

import csv
import io
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from random import Random

from sortitor.core.vocabulary import Platform
from sortitor.stand_ins import numbers
from sortitor.stand_ins.fleet import Hardware

TODAY = datetime(2026, 1, 19, 9, 0, tzinfo=UTC)

VESSELS = (
    "Petrel",
    "Guillemot",
    "Sandpiper",
    "Turnstone",
    "Razorbill",
    "Kittiwake",
    "Shearwater",
    "Avocet",
    "Dunlin",
)
LAID_UP = ("Turnstone", "Dunlin")
HARBOURS = ("Quillharbour", "Quillhaven", "Osmund Quay", "Tarn Head", "Northmere")
YARD, OFFICE = "Repair yard", "Saltreach office"
_FIRST = (
    "Maud",
    "Ivo",
    "Tamsin",
    "Corin",
    "Elke",
    "Ruan",
    "Sabra",
    "Odo",
    "Petra",
    "Lowen",
    "Merryn",
    "Jory",
    "Anwen",
    "Tobin",
    "Isolde",
    "Kester",
    "Nuala",
    "Piran",
    "Rosen",
    "Silas",
    "Una",
    "Wilmot",
    "Zennor",
    "Bram",
    "Cleer",
    "Demelza",
    "Edern",
    "Frida",
    "Golda",
    "Hedra",
)
_LAST = (
    "Fenwick",
    "Trevanion",
    "Ashlock",
    "Bellwether",
    "Carrow",
    "Dunmere",
    "Eastlake",
    "Farrow",
    "Gannet",
    "Hollis",
    "Inkpen",
    "Jessop",
    "Kerslake",
    "Lanyon",
    "Marrack",
    "Nance",
    "Oliver",
    "Penrose",
    "Quill",
    "Rowe",
    "Sark",
    "Tallack",
    "Underwood",
    "Vosper",
    "Warne",
    "Yeo",
)
#: Names that a Latin-only service would trip over.
_OTHER = (
    ("salma.haddad", "سلمى حداد"),
    ("dmitri.orlov", "Дмитрий Орлов"),
    ("mei.tanaka", "田中 芽衣"),
    ("zoe.koenig", "Zoë König"),
)


@dataclass(frozen=True, slots=True)
class Person:
    """One person as the directory knows them."""

    user_name: str
    name: str
    department: str
    site: str
    groups: tuple[str, ...]

    @property
    def mail(self) -> str:
        """Their mail address."""
        return f"{self.user_name}@wrenmoor.example"


@dataclass(frozen=True, slots=True)
class Unit:
    """One device with its place, and how many days before today it was last seen."""

    hardware: Hardware
    site: str
    quiet_days: float


@dataclass(slots=True)
class Scenario:
    """The company at one scale; `devices` is about how many devices it has."""

    devices: int = 2_400
    seed: int = 41
    people: list[Person] = field(default_factory=list)
    seasonal: list[Person] = field(default_factory=list)
    laptops: list[Unit] = field(default_factory=list)
    scanners: list[Unit] = field(default_factory=list)
    tablets: list[Unit] = field(default_factory=list)
    displays: list[Unit] = field(default_factory=list)
    officers: list[Unit] = field(default_factory=list)
    personal: list[Unit] = field(default_factory=list)
    partner: list[Unit] = field(default_factory=list)
    #: Bought, but not yet out of their boxes.
    boxed: list[Unit] = field(default_factory=list)

    def __post_init__(self) -> None:
        random = Random(self.seed)
        share = self.devices / 2_400
        self.people, self.seasonal = _people(
            random, max(20, round(700 * share)), max(10, round(200 * share))
        )
        by_group = {
            group: [p for p in self.people if group in p.groups]
            for group in ("Office", "Officers", "Crew")
        }
        make = _Maker(random)

        def count(of_2400: int) -> int:
            return max(2, round(of_2400 * share))

        self.laptops = [
            make.laptop(p)
            for p in (by_group["Office"] + by_group["Officers"] + by_group["Crew"])[: count(440)]
        ]
        self.scanners = [make.scanner() for _ in range(count(200))]
        self.boxed = [make.scanner() for _ in range(count(200))]
        self.tablets = [make.tablet() for _ in range(count(620))]
        self.displays = [make.display() for _ in range(count(140))]
        holders = by_group["Officers"] + by_group["Crew"]
        self.officers = [
            make.phone(holders[i % len(holders)], personal=False) for i in range(count(300))
        ]
        self.personal = [
            make.phone(self.seasonal[i % len(self.seasonal)], personal=True)
            for i in range(count(420))
        ]
        self.partner = [make.contractor() for _ in range(count(80))]


def _people(random: Random, permanent: int, seasonal: int) -> tuple[list[Person], list[Person]]:
    seen: set[str] = set()

    def user_name() -> tuple[str, str]:
        for turn in range(1_000_000):
            first, last = random.choice(_FIRST), random.choice(_LAST)
            name = f"{first}.{last}".lower() + (str(turn // 40) if turn > 40 else "")
            if name not in seen:
                seen.add(name)
                return name, f"{first} {last}"
        raise AssertionError("names never run out")

    staff = [
        Person(user, name, "Navigation", VESSELS[i % 9], ("All staff", "Officers"))
        for i, (user, name) in enumerate(_OTHER)
    ]
    for i in range(permanent - len(_OTHER)):
        user, name = user_name()
        kind = i % 10
        if kind < 4:
            staff.append(
                Person(
                    user,
                    name,
                    random.choice(("Ticketing", "Finance", "Planning", "Personnel")),
                    random.choice((OFFICE, *HARBOURS)),
                    ("All staff", "Office"),
                )
            )
        elif kind < 6:
            staff.append(
                Person(
                    user,
                    name,
                    random.choice(("Navigation", "Engine", "Deck")),
                    VESSELS[i % 9],
                    ("All staff", "Officers"),
                )
            )
        else:
            staff.append(
                Person(
                    user,
                    name,
                    random.choice(("Deck", "Engine", "Catering", "Moorings")),
                    random.choice((*VESSELS, *HARBOURS, YARD)),
                    ("All staff", "Crew"),
                )
            )
    guests = []
    for i in range(seasonal):
        user, name = user_name()
        guests.append(Person(user, name, "Catering", VESSELS[i % 9], ("Seasonal crew",)))
    return staff, guests


class _Maker:
    """Draws devices; how long each has been quiet follows from what it is and where."""

    def __init__(self, random: Random) -> None:
        self._random = random

    def _quiet(self, usual_days: float, odd_share: float, odd: tuple[int, int]) -> float:
        if self._random.random() < odd_share:
            return float(self._random.randint(*odd))
        return self._random.random() * usual_days

    def laptop(self, person: Person) -> Unit:
        model = self._random.choice(("Fathom 14", "Fathom 16"))
        hardware = Hardware(
            Platform.WINDOWS,
            self._random.choice(("10.0.19045", "10.0.22631", "10.0.26100")),
            "Pellworth",
            model,
            numbers.serial(self._random, "PW"),
            None,
            person.user_name,
        )
        return Unit(hardware, person.site, self._quiet(3, 0.05, (100, 260)))

    def scanner(self) -> Unit:
        hardware = Hardware(
            Platform.ANDROID,
            self._random.choice(("11", "13")),
            "Ondry",
            "Halyard S2",
            numbers.serial(self._random, "OHS"),
            numbers.imei(self._random),
        )
        return Unit(hardware, self._random.choice(HARBOURS), self._quiet(1, 0.03, (95, 180)))

    def tablet(self) -> Unit:
        site = self._random.choice(VESSELS)
        model = self._random.choice(("Deckhand 8", "Deckhand 11"))
        hardware = Hardware(
            Platform.ANDROID,
            self._random.choice(("12", "13", "14.1")),
            "Kelmar",
            model,
            numbers.serial(self._random, "KLM"),
            numbers.imei(self._random),
        )
        return Unit(
            hardware,
            site,
            self._random.randint(82, 99) if site in LAID_UP else self._quiet(2, 0.04, (92, 200)),
        )

    def display(self) -> Unit:
        hardware = Hardware(
            Platform.LINUX, "6.1", "Brackwell", "Signal 32", numbers.serial(self._random, "BRK")
        )
        return Unit(hardware, self._random.choice(HARBOURS), self._quiet(0.2, 0.02, (30, 60)))

    def phone(self, person: Person, *, personal: bool) -> Unit:
        ios = self._random.random() < 0.5
        old = personal and self._random.random() < 0.08
        version = self._random.choice(
            ("15.8",)
            if old and ios
            else ("9",)
            if old
            else ("17.6", "18.2")
            if ios
            else ("13", "14", "15")
        )
        maker, model = ("Tavik", "Lumen 5") if ios else ("Kelmar", "Mate 3")
        hardware = Hardware(
            Platform.IOS if ios else Platform.ANDROID,
            version,
            maker,
            model,
            numbers.serial(self._random, "TV" if ios else "KM"),
            numbers.imei(self._random),
            person.user_name,
        )
        return Unit(
            hardware,
            person.site,
            (
                self._random.randint(80, 110)
                if personal and self._random.random() < 0.85
                else self._quiet(3, 0.03, (91, 150))
            ),
        )

    def contractor(self) -> Unit:
        hardware = Hardware(
            Platform.ANDROID,
            "13",
            "Kelmar",
            "Deckhand 11",
            numbers.serial(self._random, "KLM"),
            numbers.imei(self._random),
        )
        return Unit(hardware, YARD, self._quiet(5, 0.2, (100, 220)))


def as_csv(rows: Iterable[Sequence[str]], delimiter: str = ",") -> bytes:
    """Lines of CSV in UTF-8."""
    buffer = io.StringIO()
    csv.writer(buffer, delimiter=delimiter, lineterminator="\r\n").writerows(rows)
    return buffer.getvalue().encode()


def people_csv(people: Sequence[Person]) -> bytes:
    """The directory's export."""
    rows = [
        (
            p.user_name,
            p.name,
            p.mail,
            p.department,
            p.site,
            ";".join(p.groups),
        )
        for p in people
    ]
    return as_csv([("user name", "name", "mail", "department", "site", "groups"), *rows])


def manifest(units: Sequence[Unit], order: str, bought: str) -> bytes:
    """A clean manifest as a careful supplier sends it."""
    rows = [
        (
            u.hardware.serial,
            u.hardware.imei or "",
            u.hardware.maker,
            u.hardware.model,
            u.site,
            order,
            bought,
        )
        for u in units
    ]
    return as_csv(
        [("Serial No.", "IMEI", "Manufacturer", "Model", "Site", "Order", "Purchase date"), *rows]
    )


def old_manifest(units: Sequence[Unit], order: str, bought: str) -> bytes:
    """The same from a supplier whose system still writes semicolons and Windows-1252."""
    rows = [
        (
            u.hardware.serial,
            u.hardware.imei or "",
            u.hardware.maker,
            u.hardware.model,
            u.site,
            order,
            bought,
            "geprüft – Süd",
        )
        for u in units
    ]
    text = as_csv(
        [
            (
                "Seriennummer",
                "IMEI 1",
                "Hersteller",
                "Modell",
                "Standort",
                "Auftrag",
                "Kaufdatum",
                "Prüfvermerk",
            ),
            *rows,
        ],
        ";",
    )
    return text.decode().encode("cp1252")


def damaged_manifest(units: Sequence[Unit], random: Random) -> bytes:
    """The scanners' supplier works in a spreadsheet: powers of ten, lost zeros, dates, repeated and
    contradicting lines; pallets, a total and a signature between the rows.
    """
    half = len(units) // 2
    rows = [
        [
            u.hardware.serial,
            u.hardware.imei or "",
            u.site,
            "09/01/2026" if i < half else "13/01/2026",
            f"Box {1 + i // 20}",
            "24 months",
        ]
        for i, u in enumerate(units)
    ]
    damage = {
        1: lambda row: row.__setitem__(1, f"{float(row[1]):.5E}"),
        2: lambda row: row.__setitem__(1, row[1].lstrip("0")),
        3: lambda row: row.__setitem__(0, "#N/A"),
        4: lambda row: row.__setitem__(1, row[1] + ".0"),
        5: lambda row: row.__setitem__(0, "'" + row[0]),
        6: lambda row: row.__setitem__(1, row[1][:14]),
        7: lambda row: row.__setitem__(1, row[1][:-1] + str((int(row[1][-1]) + 1) % 10)),
        8: lambda row: row.__setitem__(0, "12-Mar"),
        9: lambda row: row.__setitem__(0, "TBC"),
    }
    for row in rows:
        if (kind := random.randint(1, 40)) in damage:
            damage[kind](row)
    if len(rows) > 4:
        rows.insert(4, list(rows[2]))
        rows.append([rows[0][0], *rows[0][1:4], "Box 99", "12 months"])
    blank = [""] * 5
    total = ["Total", *blank[1:], str(len(rows))]
    rows.insert(half, ["Pallet 2", *blank])
    rows = [["Pallet 1", *blank], *rows, total, ["Received by: ____________", *blank]]
    return _workbook(
        "Ondry Trade, delivery note 26-0117",
        [["S/N", "IMEI 1", "Harbour", "Delivered on", "Karton", "Garantie"], *rows],
    )


def _workbook(title: str, rows: Sequence[Sequence[str]]) -> bytes:
    """An XLSX file with a merged title, headers on the third line, and a cover sheet in front."""
    import xlsxwriter  # comes with the service, which the demonstration runs

    buffer = io.BytesIO()
    with xlsxwriter.Workbook(
        buffer, {"in_memory": True, "strings_to_numbers": False, "strings_to_formulas": False}
    ) as book:
        book.add_worksheet("Cover").write_column(0, 0, [title, "Please count on arrival."])
        sheet = book.add_worksheet("Delivery")
        sheet.merge_range(0, 0, 0, len(rows[0]) - 1, title)
        for line, row in enumerate(rows, 2):
            for column, cell in enumerate(row):
                # Sound IMEIs as numbers, as spreadsheets keep them; damaged ones as the text that
                # is left.
                if column == 1 and cell.isdigit() and not cell.startswith("0"):
                    sheet.write_number(line, column, int(cell))
                else:
                    sheet.write_string(line, column, cell)
    return buffer.getvalue()


def before_today(days: float) -> datetime:
    """A moment so many days before today."""
    return TODAY - timedelta(days=days)


@contextmanager
def file(name: str, content: bytes) -> Iterator[Path]:
    """A file as somebody hands it over."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        path.write_bytes(content)
        yield path
