"""The directory's own password: at the door, and for accounts; a real slapd says who is who."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from tests.sources import run
from tests.worlds import World, a_pass, knocking

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded, SortitorProblem
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Login, Need, Outcome, Proof, Role, SignInWay, SourceKind
from sortitor.stand_ins import directory as stand_in
from sortitor.stand_ins.directory import BASE, PASSWORD, ROOT, Directory, ldif_of, person

pytestmark = pytest.mark.skipif(not stand_in.is_there(), reason="slapd is not installed")

SEA = "the sea is grey today"
ENTRIES = [
    *stand_in.top(),
    person("anna", "Anna Zee", "anna@wrenmoor.example", userPassword=SEA),
    person("bram", "Bram عمر", "bram@wrenmoor.example", userPassword="كلمة سر طويلة"),
    person("odo", "Odo Gannet", "odo@wrenmoor.example", departmentNumber="Left", userPassword=SEA),
    person("same", "One", "twice@wrenmoor.example", userPassword=SEA),
    person("other", "Two", "twice@wrenmoor.example", userPassword=SEA),
]


@pytest.fixture
def directory(tmp_path: Path) -> Iterator[Directory]:
    with stand_in.running(tmp_path / "slapd", ldif_of(ENTRIES)) as made:
        yield made


@pytest.fixture
def world(make_world: Callable[..., World]) -> World:
    """A service that may ask this machine, with a worker."""
    return make_world(source_networks="127.0.0.0/8, ::1/128", worker=True)


@pytest.fixture
def s(world: World) -> Sortitor:
    return world.client()


def source(directory: Directory, login: Login | None, **more: object) -> Source:
    return Source(
        name="Office directory",
        kind=SourceKind.DIRECTORY,
        address=directory.address,
        branches=(f"ou=people,{BASE}",),
        bind_name=ROOT,
        authority=directory.authority,
        leavers_by="(departmentNumber=Left)",
        signs_in_by=login,
        **more,
    )


def add(s: Sortitor, directory: Directory, login: Login | None = Login.USER_NAME) -> int:
    made = s.sources.add(source(directory, login))
    s.sources.give(made.id, PASSWORD)
    run(s, made.name)
    return made.id


def asked(s: Sortitor, serial: str = "KM-1") -> str:
    """The secret of an arrival that asks for the directory's password."""
    answer = s.agent.knock(
        knocking(a_pass(s, sign_in=SignInWay.DIRECTORY), serial, protocol=2, imeis=[])
    )
    assert (answer.outcome, answer.asks) == (Outcome.ASKED, [Need.SIGN_IN])
    assert answer.secret is not None
    return answer.secret


def test_a_person_comes_in_by_the_directorys_password(s: Sortitor, directory: Directory) -> None:
    add(s, directory)
    secret = asked(s)
    way = s.agent.way(secret)
    assert (way.sign_in, way.person_name) == (SignInWay.DIRECTORY, None)
    done = s.agent.sign_in_by_password(secret, "ANNA", SEA)
    assert (done.outcome, done.asks, done.person_name) == (Outcome.ADMITTED, [], "Anna Zee")
    device = s.agent.collect(secret).device_id
    assert s.devices.show(device).person_user_name == "anna"
    shown = s.arrivals.show(done.arrival_id)
    assert shown.proof is Proof.DIRECTORY
    assert SEA not in shown.model_dump_json()


@pytest.mark.parametrize(
    ("login", "password"),
    [
        ("anna", "wrong"),
        ("anna", ""),
        ("nobody", SEA),
        ("*", SEA),
        ("anna)(uid=*", SEA),
        ("", SEA),
        ("odo", SEA),  # the directory says that he left
        ("anna@wrenmoor.example", SEA),  # signs in by user name here
    ],
)
def test_who_does_not_come_in(s: Sortitor, directory: Directory, login: str, password: str) -> None:
    """Nobody learns which of the two was wrong."""
    add(s, directory)
    secret = asked(s)
    with pytest.raises(Refused) as refused:
        s.agent.sign_in_by_password(secret, login, password)
    assert refused.value.problem.code == "wrong_name_or_password"
    assert s.agent.way(secret).outcome is Outcome.ASKED


def test_by_mail_address_and_by_nobody_where_two_have_it(s: Sortitor, directory: Directory) -> None:
    add(s, directory, Login.MAIL)
    secret = asked(s)
    with pytest.raises(Refused):
        s.agent.sign_in_by_password(secret, "twice@wrenmoor.example", SEA)
    done = s.agent.sign_in_by_password(secret, "bram@wrenmoor.example", "كلمة سر طويلة")
    assert (done.outcome, done.person_name) == (Outcome.ADMITTED, "Bram عمر")


def test_a_pass_of_one_person_is_nobody_elses(s: Sortitor, directory: Directory) -> None:
    """Another person's right password opens nothing."""
    add(s, directory)
    code = a_pass(s, sign_in=SignInWay.DIRECTORY, person="bram")
    secret = s.agent.knock(knocking(code, "KM-2", protocol=2, imeis=[])).secret
    assert secret is not None
    with pytest.raises(Refused):
        s.agent.sign_in_by_password(secret, "anna", SEA)
    done = s.agent.sign_in_by_password(secret, "bram", "كلمة سر طويلة")
    assert done.outcome is Outcome.ADMITTED


def test_five_wrong_ones_and_the_device_begins_anew(s: Sortitor, directory: Directory) -> None:
    """Also where they come at once, and whatever the directory answers."""
    add(s, directory)
    secret = asked(s)

    def guess(number: int) -> str:
        try:
            s.agent.sign_in_by_password(secret, f"anna{' ' * number}", f"guess {number}")
        except SortitorProblem as problem:
            return problem.problem.code
        return "in"

    with ThreadPoolExecutor(8) as hands:
        codes = list(hands.map(guess, range(8)))
    assert codes.count("wrong_name_or_password") <= 5
    assert "in" not in codes
    with pytest.raises(Refused) as enough:
        s.agent.sign_in_by_password(secret, "anna", SEA)
    assert enough.value.problem.code == "slow_down"
    assert s.agent.sign_in_by_password(asked(s), "anna", SEA).outcome is Outcome.ADMITTED


def test_a_directory_that_is_away(s: Sortitor, directory: Directory) -> None:
    """Strangers are told that it does not answer, and not where it is."""
    number = add(s, directory)
    secret = asked(s)
    gone = source(directory, Login.USER_NAME).model_copy(update={"address": "ldaps://127.0.0.1:9"})
    preview = s.sources.preview_edit(number, gone)
    s.sources.edit(number, gone, digest=preview.digest)
    s.sources.give(number, PASSWORD)
    with pytest.raises(SortitorProblem) as silent:
        s.agent.sign_in_by_password(secret, "anna", SEA)
    assert silent.value.problem.code == "directory_silent"
    assert "127.0.0.1" not in silent.value.problem.model_dump_json()


def test_whoever_is_new_there_is_told_to_wait(s: Sortitor, directory: Directory) -> None:
    """The right password of somebody whom no run has brought yet."""
    made = s.sources.add(source(directory, Login.USER_NAME))
    s.sources.give(made.id, PASSWORD)
    with pytest.raises(Refused) as told:
        s.agent.sign_in_by_password(asked(s), "anna", SEA)
    assert told.value.problem.code == "not_here_yet"


def test_passes_and_gates_ask_for_it_only_where_it_can_be_answered(
    s: Sortitor, directory: Directory
) -> None:
    with pytest.raises(Refused) as refused:
        a_pass(s, sign_in=SignInWay.DIRECTORY)
    assert refused.value.problem.code == "no_directory"
    add(s, directory, None)
    with pytest.raises(Refused):
        a_pass(s, sign_in=SignInWay.DIRECTORY)
    with pytest.raises(Refused) as clear:
        s.sources.add(
            source(directory, Login.MAIL).model_copy(
                update={"address": f"ldap://127.0.0.1:{directory.port}", "starttls": False}
            )
        )
    assert clear.value.problem.code == "no_tls"


# ---- accounts


def test_an_account_signs_in_by_the_directory(
    world: World, s: Sortitor, directory: Directory
) -> None:
    number = add(s, directory)
    admin = world.client(Role.ADMINISTRATOR)
    admin.accounts.add("anna", None, Role.COORDINATOR, directory="Office directory")
    [account] = [one for one in admin.accounts.list() if one.name == "anna"]
    assert account.directory == "Office directory"
    with Sortitor(world.url) as anna:
        assert anna.accounts.sign_in("Anna", SEA).role is Role.COORDINATOR
        fresh = "nine grey herons wait"
        with pytest.raises(Refused) as other:
            anna.accounts.change_password(SEA, fresh)
    assert other.value.problem.code == "other_password"
    for name, password in [("anna", "wrong"), ("anna", ""), ("bram", "كلمة سر طويلة")]:
        with Sortitor(world.url) as stranger, pytest.raises(SignInNeeded):
            stranger.accounts.sign_in(name, password)
    # Nobody loses the way in by a change of the source.
    for refusal in (
        lambda: s.sources.preview_remove(number),
        lambda: s.sources.preview_edit(number, source(directory, None)),
    ):
        with pytest.raises(Refused) as refused:
            refusal()
        assert refused.value.problem.code == "accounts_by_it"
    admin.accounts.edit(account.id, password="nine grey herons wait")
    with Sortitor(world.url) as anna:
        with pytest.raises(SignInNeeded):
            anna.accounts.sign_in("anna", SEA)
        assert anna.accounts.sign_in("anna", "nine grey herons wait").name == "anna"


def test_an_account_moves_to_the_directory_and_its_sessions_end(
    world: World, s: Sortitor, directory: Directory
) -> None:
    add(s, directory)
    admin = world.client(Role.ADMINISTRATOR)
    admin.accounts.add("bram", "nine grey herons wait", Role.VIEWER)
    [account] = [one for one in admin.accounts.list() if one.name == "bram"]
    with Sortitor(world.url) as bram:
        bram.accounts.sign_in("bram", "nine grey herons wait")
        admin.accounts.edit(account.id, directory="Office directory")
        with pytest.raises(SignInNeeded):
            bram.accounts.me()
        with pytest.raises(SignInNeeded):
            bram.accounts.sign_in("bram", "nine grey herons wait")
        assert bram.accounts.sign_in("bram", "كلمة سر طويلة").role is Role.VIEWER


@pytest.mark.slow
def test_a_directory_that_hangs_keeps_no_other_account_out(
    world: World, s: Sortitor, directory: Directory
) -> None:
    """Whoever has a password of their own signs in while others wait for the directory."""
    add(s, directory)
    admin = world.client(Role.ADMINISTRATOR)
    admin.accounts.add("anna", None, Role.VIEWER, directory="Office directory")
    admin.accounts.add("ann", "nine grey herons wait", Role.VIEWER)

    def waits(number: int) -> None:
        with Sortitor(world.url) as stranger, pytest.raises(SortitorProblem):
            stranger.accounts.sign_in(f"nobody-{number}", "x")

    with directory.hanging(), ThreadPoolExecutor(6) as hands:
        waiting = [hands.submit(waits, number) for number in range(6)]
        time.sleep(0.5)
        begun = time.monotonic()
        with Sortitor(world.url) as ann:
            ann.accounts.sign_in("ann", "nine grey herons wait")
        assert time.monotonic() - begun < 5
        assert not all(one.done() for one in waiting)
    for one in waiting:
        one.result()
