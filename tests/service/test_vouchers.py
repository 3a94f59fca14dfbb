"""Vouchers over HTTP: what they are, what they would do, used once, taken back."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
import segno
from PIL import Image
from PIL.ExifTags import Base
from tests.vouchers import an_issuer, trust, use
from tests.worlds import NOW, World, a_pass, import_lot, knocking, manifest, sized

from sortitor.client import Sortitor
from sortitor.client.errors import Refused
from sortitor.core.sources import Source
from sortitor.core.vocabulary import (
    Act,
    Activation,
    EndKind,
    Outcome,
    PoolState,
    Shortage,
    SourceKind,
    Term,
)
from sortitor.schemas.devices import Selection
from sortitor.schemas.gate import Try
from sortitor.schemas.licences import Grant, Pool
from sortitor.stand_ins.issuer import Issuer, Wrong, make_issuer
from sortitor.stand_ins.serving import serving

TODAY = NOW.date()


@pytest.fixture
def issuer(world: World, tmp_path: Path) -> Issuer:
    """An issuer whose keys are known."""
    return an_issuer(world.client(), tmp_path, lambda: world.now)


def _take_back(s: Sortitor, grant: Grant) -> None:
    s.journal.revert(grant.entry_id, s.journal.preview_revert(grant.entry_id).digest)


def _displays(s: Sortitor, tmp_path: Path, number: int) -> None:
    lines = ["serial,maker,platform", *(f"BRK{n:04},Brackwell,linux" for n in range(number))]
    import_lot(s, manifest(tmp_path, lines))
    code = a_pass(s, activation=Activation.SHARED)
    for n in range(number):
        stated = {"platform": "linux", "os_version": "6.1", "maker": "Brackwell"}
        assert s.agent.knock(knocking(code, f"BRK{n:04}", **stated)).outcome is Outcome.ADMITTED


def test_short_compared_used_the_wrong_way_taken_back_and_done_right(
    world: World, issuer: Issuer, tmp_path: Path
) -> None:
    s = world.client()
    _displays(s, tmp_path, 6)
    pool = s.pools.add(Pool(name="Signage", filter='platform eq "linux"')).id
    first = use(s, pool, issuer.voucher("Signage", 5, 30))
    before = s.pools.show(pool)
    assert (before.state, before.held, before.needed) == (PoolState.SHORT, 5, 6)
    assert (before.ends_on, before.seat_days) == (TODAY + timedelta(30), 150)

    world.later(days=10)
    text = issuer.voucher("signage ", 2, 60)
    found = s.pools.read_voucher(f"Dear customer,\n\nhere it is: {text}\n\nYours")
    assert found.words.startswith("Voucher V-2601-0002 of Harbour Software: 2 seats of “signage”")
    assert [one.name for one in found.pools] == ["Signage"]
    comparison = s.pools.compare(pool, text)
    top_up, rollover = comparison.outcomes
    assert (top_up.held, top_up.seat_days, top_up.whole_days) == (7, 5 * 20 + 120, 31)
    assert (top_up.state, top_up.moved_days) == (PoolState.COVERED, 11)
    assert (rollover.held, rollover.seat_days, rollover.whole_days) == (2, 220, 110)
    assert (rollover.state, rollover.uncovered) == (PoolState.SHORT, 4)
    assert comparison.best is Act.TOP_UP
    assert len(comparison.latest) == 4

    preview = s.pools.preview_grant(pool, text, Act.ROLLOVER)
    assert any("The other way is better" in words for words in preview.warnings)
    wrong = s.pools.apply_grant(pool, text, Act.ROLLOVER, preview.digest, "in a hurry")
    assert s.pools.show(pool).held == 2
    with pytest.raises(Refused, match=r"V-2601-0002 was used on"):
        s.pools.compare(pool, text)

    undoing = s.journal.preview_revert(wrong.entry_id)
    assert any("booked as V-2601-0002/2 then" in words for words in undoing.warnings)
    s.journal.revert(wrong.entry_id, undoing.digest, "wrong way")
    again = s.pools.show(pool)
    assert (again.held, again.seat_days, again.ends_on) == (5, 100, before.ends_on)

    right = use(s, pool, text)
    assert right.used_as == "V-2601-0002/2"
    now = s.pools.show(pool)
    assert (now.state, now.held, now.seat_days) == (PoolState.COVERED, 7, 220)
    history = s.pools.grants(pool)
    assert [(one.used_as, one.act, one.reverted_at is None) for one in history] == [
        ("V-2601-0002/2", Act.TOP_UP, True),
        ("V-2601-0002", Act.ROLLOVER, False),
        (first.used_as, Act.TOP_UP, True),
    ]
    told = [entry.summary for entry in s.journal.list() if "V-2601-0002" in entry.summary]
    assert len(told) == 3


@pytest.mark.parametrize("wrong", Wrong)
def test_wrong_vouchers_are_refused_with_words(world: World, issuer: Issuer, wrong: Wrong) -> None:
    s = world.client()
    pool = s.pools.add(Pool(name="Signage")).id
    text = issuer.voucher("Signage", 5, 30, wrong=wrong)
    codes = {
        Wrong.KEY: "not_vouched_for",
        Wrong.NONE: "no_voucher",
        Wrong.CRITICAL: "bad_voucher",
        Wrong.CHANGED: "not_vouched_for",
        Wrong.EARLY: "voucher_early",
        Wrong.ENDED: "voucher_ended",
    }
    for ask in (
        lambda: s.pools.read_voucher(text),
        lambda: s.pools.compare(pool, text),
        lambda: s.pools.preview_grant(pool, text, Act.TOP_UP),
        lambda: s.pools.apply_grant(pool, text, Act.TOP_UP, "0" * 64),
    ):
        with pytest.raises(Refused) as refused:
            ask()
        assert refused.value.problem.code == codes[wrong]
        assert refused.value.problem.remedy
    assert s.pools.grants(pool) == []


def test_only_keys_that_the_issuer_has_now_open_anything(
    world: World, issuer: Issuer, tmp_path: Path
) -> None:
    s = world.client()
    old = issuer.voucher("Signage", 5, 30)
    issuer.rotate(keep=1)
    trust(s, issuer, tmp_path)
    assert s.pools.read_voucher(old).seats == 5
    assert s.pools.read_voucher(issuer.voucher("Signage", 6, 30)).seats == 6
    issuer.rotate(keep=0)
    path = tmp_path / "keys.json"
    path.write_text(json.dumps(issuer.jwks()))
    preview = s.sources.preview_file("Harbour Software", path)
    assert {one.key: one.count for one in preview.counts} == {"keys_added": 1, "keys_gone": 2}
    s.sources.take_file("Harbour Software", path, preview.digest)
    with pytest.raises(Refused, match="No issuer"):
        s.pools.read_voucher(old)


@pytest.mark.parametrize(
    ("content", "code"),
    [
        ("nothing", "no_keys"),
        ("[]", "no_keys"),
        ('{"keys": 5}', "no_keys"),
        ('{"keys": []}', "no_keys"),
        ('{"keys": [{"kty": "OKP", "crv": "Ed25519", "x": "AAAA"}]}', "bad_key"),
        ('{"keys": [{"kty": "OKP", "crv": "Ed25519", "x": 5}]}', "bad_key"),
        ("[" * 50_000, "no_keys"),
    ],
)
def test_what_is_no_set_of_keys_is_refused(
    world: World, issuer: Issuer, tmp_path: Path, content: str, code: str
) -> None:
    path = tmp_path / "keys.json"
    path.write_text(content)
    with pytest.raises(Refused) as refused:
        world.client().sources.preview_file("Harbour Software", path)
    assert refused.value.problem.code == code


def test_a_private_key_is_not_taken(world: World, issuer: Issuer, tmp_path: Path) -> None:
    path = tmp_path / "keys.json"
    path.write_text(json.dumps({"keys": [issuer.keys[0].as_dict(private=True)]}))
    with pytest.raises(Refused, match="private key"):
        world.client().sources.preview_file("Harbour Software", path)


def test_keys_are_fetched_from_an_address(make_world: Callable[..., World]) -> None:
    world = make_world(source_networks="127.0.0.0/8", worker=True)
    s = world.client()
    made = Issuer(now=lambda: world.now)
    with serving(make_issuer(made)) as address:
        source = s.sources.add(
            Source(name="Software house", kind=SourceKind.ISSUER, address=f"{address}/keys")
        )
        s.jobs.follow(s.sources.run(source.id), lambda job: None)
        assert s.pools.read_voucher(made.voucher("Signage", 5, 30)).issuer == "Software house"
        made.rotate(keep=0)
        s.jobs.follow(s.sources.run(source.id), lambda job: None)
        assert s.pools.read_voucher(made.voucher("Signage", 5, 30)).seats == 5


def test_a_voucher_counts_once_however_many_use_it(world: World, issuer: Issuer) -> None:
    s = world.client()
    pools = [s.pools.add(Pool(name=f"Signage {n}", product="Signage")).id for n in range(3)]
    for _ in range(sized(3)):
        text = issuer.voucher("Signage", 5, 30)

        def tried(place: int, text: str = text) -> str | None:
            client, pool = world.client(), pools[place % 3]
            try:
                digest = client.pools.preview_grant(pool, text, Act.TOP_UP).digest
                client.pools.apply_grant(pool, text, Act.TOP_UP, digest)
            except Refused as error:
                return error.problem.code
            return None

        with ThreadPoolExecutor(9) as threads:
            found = list(threads.map(tried, range(9)))
        assert found.count(None) == 1
        assert set(found) <= {None, "voucher_used", "facts_moved"}
        counted = [
            one for pool in pools for one in s.pools.grants(pool) if one.token == text.strip()
        ]
        assert len(counted) == 1


def test_two_take_one_use_back(world: World, issuer: Issuer) -> None:
    s = world.client()
    pool = s.pools.add(Pool(name="Signage")).id
    made = use(s, pool, issuer.voucher("Signage", 5, 30))
    digest = s.journal.preview_revert(made.entry_id).digest

    def back(_: int) -> bool:
        try:
            world.client().journal.revert(made.entry_id, digest)
        except Refused:
            return False
        return True

    with ThreadPoolExecutor(4) as threads:
        assert sum(threads.map(back, range(4))) == 1
    assert s.pools.show(pool).held == 0


def test_what_cannot_be_taken_back_says_why(world: World, issuer: Issuer) -> None:
    s = world.client()
    pool = s.pools.add(Pool(name="Signage")).id
    first = use(s, pool, issuer.voucher("Signage", 5, 90))
    second = use(s, pool, issuer.voucher("Signage", 5, 90))
    with pytest.raises(Refused, match="booked upon it"):
        s.journal.preview_revert(first.entry_id)
    _take_back(s, second)
    _take_back(s, first)
    third = use(s, pool, issuer.voucher("Signage", 5, 90))
    world.later(days=30, seconds=1)
    with pytest.raises(Refused, match="could be taken back until"):
        s.journal.preview_revert(third.entry_id)
    with pytest.raises(Refused, match="by the term that it has"):
        s.pools.preview_edit(pool, Pool(name="Signage", term=Term.EACH))
    other = s.pools.add(Pool(name="Planner")).id
    with pytest.raises(Refused, match="is for “Signage”"):
        s.pools.compare(other, issuer.voucher("Signage", 1, 1))
    with pytest.raises(Refused, match="takes vouchers as"):
        s.pools.preview_grant(pool, issuer.voucher("Signage", 1, 1), Act.BESIDE)


def test_seats_beside_each_other_end_by_themselves(world: World, issuer: Issuer) -> None:
    s = world.client()
    pool = s.pools.add(Pool(name="Signage", term=Term.EACH, grace_days=3, seats=2)).id
    use(s, pool, issuer.voucher("Signage", 5, 10), Act.BESIDE)
    early = use(s, pool, issuer.voucher("Signage", 7, 20), Act.BESIDE)
    assert s.pools.show(pool).held == 14
    world.later(days=11)
    found = s.pools.show(pool)
    assert (found.held, found.in_grace, found.ends_on) == (14, 5, TODAY + timedelta(20))
    assert found.lasts_on == TODAY + timedelta(12)
    world.later(days=2)
    assert s.pools.show(pool).held == 9
    _take_back(s, early)
    assert s.pools.show(pool).held == 2


def test_ends_of_seats_are_in_the_list_and_on_today(
    world: World, issuer: Issuer, tmp_path: Path
) -> None:
    s = world.client()
    _displays(s, tmp_path, 2)
    pool = s.pools.add(Pool(name="Signage", grace_days=5)).id
    use(s, pool, issuer.voucher("Signage", 4, 9))
    [end] = [one for one in s.ends.list() if one.kind is EndKind.LICENCE]
    assert (end.title, end.days_left, end.page) == (
        "4 seats of “Signage”",
        9,
        f"/licences/{pool}",
    )
    world.later(days=9)
    assert s.pools.show(pool).state is PoolState.GRACE
    assert any(one.title == "Seats of Signage have ended" for one in s.today.show().items)
    world.later(days=5)
    assert s.pools.show(pool).state is PoolState.LAPSED
    [item] = [one for one in s.today.show().items if one.kind == "pool"]
    assert item.title == "Signage is short of 2 seats"


def test_arrivals_without_a_seat_are_let_in_parked_or_refused(world: World, tmp_path: Path) -> None:
    s = world.client()
    wanted = {
        Shortage.ADMIT: Outcome.ADMITTED,
        Shortage.PARK: Outcome.PARKED,
        Shortage.REFUSE: Outcome.REFUSED,
    }
    pool = s.pools.add(Pool(name="Apps", seats=0, filter='platform eq "android"'))
    code = a_pass(s, activation=Activation.SHARED)
    for number, (when_short, outcome) in enumerate(wanted.items()):
        before = s.pools.show(pool.id)
        proposed = Pool(name="Apps", seats=0, filter='platform eq "android"', when_short=when_short)
        digest = s.pools.preview_edit(pool.id, proposed).digest
        s.pools.edit(pool.id, proposed, digest, revision=before.revision)
        answer = s.agent.knock(knocking(code, f"KM-{number}"))
        assert answer.outcome is outcome
        decided = s.gate.attempt(Try(platform="android", os_version="14", maker="Kelmar"))
        codes = {reason.code for reason in decided.reasons}
        assert codes == (set() if when_short is Shortage.ADMIT else {"no_seat"})
        steps = [step for step in decided.trace if step.facet == "licence"]
        assert bool(steps) == (when_short is not Shortage.ADMIT)
    assert answer.messages == [
        "There is no licence left for this device. Your help desk will let you know."
    ]
    [refused] = [one for one in s.arrivals.list() if one.outcome is Outcome.REFUSED]
    assert refused.reasons[0].code == "no_seat"
    assert "Apps has 0 and 2 are taken" in refused.reasons[0].explanation
    turned = {one.outcome: one.number for one in s.pools.course(pool.id).turned_away}
    assert turned == {Outcome.PARKED: 1, Outcome.REFUSED: 1}
    # Whoever has a seat keeps it.
    assert s.agent.knock(knocking(code, "KM-0")).outcome is not Outcome.REFUSED


def test_of_many_at_once_only_as_many_come_in_as_there_are_seats(world: World) -> None:
    s = world.client()
    s.pools.add(Pool(name="Apps", seats=3, when_short=Shortage.REFUSE))
    code = a_pass(s, activation=Activation.SHARED)

    def knock(number: int) -> Outcome:
        return world.client(None).agent.knock(knocking(code, f"KM-{number}")).outcome

    with ThreadPoolExecutor(8) as threads:
        found = list(threads.map(knock, range(12)))
    assert found.count(Outcome.ADMITTED) == 3
    assert s.pools.show("Apps").needed == 3


def test_a_device_says_which_seats_it_takes(world: World, tmp_path: Path) -> None:
    s = world.client()
    _displays(s, tmp_path, 1)
    s.pools.add(Pool(name="Signage", seats=5, filter='platform eq "linux"'))
    s.pools.add(Pool(name="Apps", seats=5, filter='platform eq "android"'))
    [device] = s.devices.list()
    [seat] = s.devices.show(device.id).seats
    assert (seat.pool, seat.since.date()) == ("Signage", TODAY)


def test_the_course_goes_back_and_ahead(world: World, issuer: Issuer, tmp_path: Path) -> None:
    s = world.client()
    _displays(s, tmp_path, 3)
    pool = s.pools.add(Pool(name="Signage")).id
    use(s, pool, issuer.voucher("Signage", 4, 50))
    world.later(days=20)
    found = s.pools.course(pool)
    today = TODAY + timedelta(20)
    days = {one.day: one for one in found.days}
    assert (days[TODAY - timedelta(1)].needed, days[TODAY].needed, days[today].needed) == (0, 3, 3)
    assert (days[TODAY].seats, days[TODAY + timedelta(49)].seats) == (4, 4)
    assert days[TODAY + timedelta(50)].seats == 0
    assert (found.came, found.went) == (3, 0)
    assert found.short_on == TODAY + timedelta(50)
    assert found.short_by_end


def test_the_report_of_a_month(world: World, issuer: Issuer, tmp_path: Path) -> None:
    s = world.client()
    _displays(s, tmp_path, 3)
    pool = s.pools.add(Pool(name="Signage", price="3.10", currency="EUR")).id
    use(s, pool, issuer.voucher("Signage", 4, 365))
    world.later(days=30)
    report = s.pools.report("2026-01")
    [line] = report.pools
    assert (report.first_on, report.last_on) == (date(2026, 1, 1), date(2026, 1, 31))
    assert (line.needed, line.seats, line.came) == (3, 4, 3)
    # Four seats on fifteen of thirty-one days.
    assert (str(line.cost), line.currency) == ("6.00", "EUR")
    content = s.pools.report_file("2026-01").decode("utf-8-sig")
    assert content.splitlines()[1].startswith("Signage,covered,3,4,3,0,V-2601-0001,2027-01-17")
    for month, code in (("2026-13", "bad_month"), ("2027-01", "month_to_come")):
        with pytest.raises(Refused) as refused:
            s.pools.report(month)
        assert refused.value.problem.code == code


def photograph(text: str, angle: int = 0, blank: bool = False) -> bytes:
    """A picture of a sheet with a code on it, as a telephone takes it."""
    drawn = io.BytesIO()
    segno.make(text, error="l").save(drawn, kind="png", scale=5, border=6)
    sheet = Image.new("L", (1600, 1200), 235)
    if not blank:
        code = Image.open(drawn).convert("L").rotate(angle, expand=True, fillcolor=235)
        sheet.paste(code, (180, 140))
    told = Image.Exif()
    told[Base.Orientation], told[Base.XResolution] = 6, 72.0
    made = io.BytesIO()
    sheet.save(made, "JPEG", quality=80, exif=told)
    return made.getvalue()


def test_a_voucher_is_read_from_a_photograph(world: World, issuer: Issuer) -> None:
    s = world.client()
    s.pools.add(Pool(name="Signage", seats=1))
    voucher = issuer.voucher("Signage", 3, 30)
    for angle in (0, 7, 90, 180):
        assert s.pools.read_picture(photograph(voucher, angle)) == voucher
    # A resolution that is said to be a text (EXIF's type 2).
    odd = photograph(voucher).replace(b"\x01\x1a\x00\x05", b"\x01\x1a\x00\x02")
    assert odd != photograph(voucher)
    assert s.pools.read_picture(odd) == voucher
    for picture, code in (
        (photograph(voucher, blank=True), "no_code"),
        (b"\x89PNG and then nothing", "bad_picture"),
        (b"", "bad_picture"),
        (photograph(voucher)[:2_000], "bad_picture"),
    ):
        with pytest.raises(Refused) as refused:
            s.pools.read_picture(picture)
        assert refused.value.problem.code == code


def test_a_mail_and_a_broken_line_hold_a_voucher_too(world: World, issuer: Issuer) -> None:
    s = world.client()
    text = issuer.voucher("Signage", 5, 30)
    quoted = "=\r\n".join(text[place : place + 70] for place in range(0, len(text), 70))
    mail = (
        "From: sales@example.org\r\nSubject: Your voucher\r\nMIME-Version: 1.0\r\n"
        "Content-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable"
        f"\r\n\r\nHere it is:\r\n\r\n{quoted}\r\n"
    )
    wrapped = "\n".join(text[place : place + 60] for place in range(0, len(text), 60))
    for given in (mail, wrapped, f"\ufeff{text}\r\n", f"<{text}>"):
        assert s.pools.read_voucher(given).number == "V-2601-0001"
    other = issuer.voucher("Signage", 6, 30)
    for given, code in (
        ("nothing here", "no_voucher"),
        (f"{text}\n{other}", "several_vouchers"),
        ("a.b.c", "no_voucher"),
        # What breaks the reading of mails is no voucher either.
        (
            "A: b\r\n" + "Content-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\n" * 3_000,
            "no_voucher",
        ),
        ("Content-Type: text/plain; charset=nothing\r\n\r\nx", "no_voucher"),
        ("eyJ" * 60_000, "no_voucher"),
    ):
        with pytest.raises(Refused) as refused:
            s.pools.read_voucher(given)
        assert refused.value.problem.code == code


def test_a_day_is_that_of_the_organisation(
    make_world: Callable[..., World], tmp_path: Path
) -> None:
    """At eleven in Greenwich it is the next day in Kiritimati."""
    world = make_world(time_zone="Pacific/Kiritimati")
    world.later(hours=2)
    s = world.client()
    made = an_issuer(s, tmp_path, lambda: world.now)
    pool = s.pools.add(Pool(name="Signage")).id
    use(s, pool, made.voucher("Signage", 4, 1))
    assert s.pools.show(pool).ends_on == TODAY + timedelta(2)


def test_what_came_and_went_is_written_down_by_the_organisations_day(
    make_world: Callable[..., World],
) -> None:
    world = make_world(time_zone="Pacific/Kiritimati")
    s, zone = world.client(), ZoneInfo("Pacific/Kiritimati")
    pool = s.pools.add(Pool(name="Signage", seats=5))
    code = a_pass(s, activation=Activation.SHARED)
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-{number}"))
    first = world.now.astimezone(zone).date()
    world.later(days=2)
    shown = s.devices.preview_retire(Selection(ids=[1]))
    s.devices.retire(Selection(ids=[1]), shown.digest)
    moved = "SELECT day, sum(came), sum(went) FROM seat_moves WHERE day IS NOT NULL GROUP BY day"
    assert sorted(world.rows(moved)) == [(first, 3, 0), (first + timedelta(2), 0, 1)]
    course = s.pools.course(pool.id)
    needed = {line.day: line.needed for line in course.days}
    assert [needed[first + timedelta(n)] for n in (-1, 0, 1, 2)] == [0, 3, 3, 2]
    assert (course.came, course.went) == (3, 1)
    # Another filter has another past, as far as today's devices tell it.
    s.pools.edit(pool.id, Pool(name="Signage", seats=5, filter='serial eq "KM-2"'))
    needed = {line.day: line.needed for line in s.pools.course(pool.id).days}
    assert [needed[first + timedelta(n)] for n in (-1, 0, 1, 2)] == [0, 1, 1, 1]
    s.pools.edit(pool.id, Pool(name="Signage", seats=5, filter="idleDays le 400"))
    needed = {line.day: line.needed for line in s.pools.course(pool.id).days}
    assert [needed[first + timedelta(n)] for n in (-1, 0, 1, 2)] == [0, 3, 3, 2], "time moves it"
