"""Signing in, roles, tokens, the first administrator."""

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from tests.worlds import (
    PASSWORD,
    World,
    change_baseline,
    http,
    import_lot,
    import_people,
    manifest,
)

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.access import covers
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.licences import Pool
from sortitor.server.wiring import offer_setup


def test_a_password_opens_a_session_and_signing_out_ends_it(world: World) -> None:
    s = world.client(None)
    assert s.accounts.sign_in("Coordinator", PASSWORD).role is Role.COORDINATOR
    assert s.accounts.me().name == "coordinator"
    s.accounts.sign_out()
    with pytest.raises(SignInNeeded):
        s.accounts.me()


def test_the_cookie_is_kept_from_scripts_and_other_sites(world: World) -> None:
    with http(world, None) as client:
        answer = client.post("/api/v1/session", json={"name": "coordinator", "password": PASSWORD})
        cookie = answer.headers["set-cookie"]
        assert "HttpOnly" in cookie
        assert "SameSite=strict" in cookie.replace("Strict", "strict")
        forged = client.post("/api/v1/pools", json={"name": "x", "seats": 1})
        assert (forged.status_code, forged.json()["code"]) == (403, "cross_site")
        other = client.post(
            "/api/v1/pools",
            json={"name": "x", "seats": 1},
            headers={"X-Sortitor-Console": "1", "Sec-Fetch-Site": "cross-site"},
        )
        assert other.status_code == 403
        assert (
            client.post(
                "/api/v1/pools", json={"name": "x", "seats": 1}, headers={"X-Sortitor-Console": "1"}
            ).status_code
            == 201
        )


def test_a_token_makes_no_token_and_a_session_is_listed_with_its_use(world: World) -> None:
    s = world.in_person()
    made = s.accounts.add_token("script", Role.COORDINATOR, 1)
    with Sortitor(world.url, made.secret) as script:
        with pytest.raises(Refused, match="opened with the password"):
            script.accounts.add_token("longer", Role.VIEWER, 398)
        with pytest.raises(Refused, match="opened with the password"):
            script.accounts.change_password(PASSWORD, "nine grey herons wait")
    [mine] = [one for one in s.accounts.tokens() if one.id == made.id]
    assert mine.used_at is not None
    admin = world.client(Role.ADMINISTRATOR)
    [number] = [one.id for one in admin.accounts.list() if one.name == "coordinator"]
    [session] = admin.accounts.sessions(number)
    admin.accounts.end_session(session.id, number)
    with pytest.raises(SignInNeeded):
        s.accounts.me()
    assert made.id in [one.id for one in admin.accounts.tokens(number)]
    admin.accounts.revoke_token(made.id, number)
    with Sortitor(world.url, made.secret) as script, pytest.raises(SignInNeeded):
        script.accounts.me()
    for act in (admin.accounts.sessions, admin.accounts.tokens):
        with pytest.raises(Refused):
            act(987_654)


@pytest.mark.parametrize("how", ["reset", "disabled", "own"])
def test_a_new_password_and_disabling_end_what_was_open(world: World, how: str) -> None:
    s, other = world.in_person(), world.in_person()
    token = s.accounts.add_token("script", Role.COORDINATOR, 1)
    admin = world.client(Role.ADMINISTRATOR)
    [number] = [one.id for one in admin.accounts.list() if one.name == "coordinator"]
    fresh = "nine grey herons wait"
    if how == "reset":
        admin.accounts.edit(number, password=fresh)
    elif how == "disabled":
        admin.accounts.edit(number, disabled=True)
    else:
        with pytest.raises(Refused, match="not right"):
            s.accounts.change_password("wrong wrong wrong", fresh)
        s.accounts.change_password(PASSWORD, fresh)
        assert s.accounts.me().name == "coordinator", "one's own session stays"
    with pytest.raises(SignInNeeded):
        other.accounts.me()
    with Sortitor(world.url, token.secret) as script, pytest.raises(SignInNeeded):
        script.accounts.me()
    if how == "disabled":
        return
    with Sortitor(world.url) as again:
        with pytest.raises(SignInNeeded):
            again.accounts.sign_in("coordinator", PASSWORD)
        assert again.accounts.sign_in("coordinator", fresh).role is Role.COORDINATOR


@pytest.mark.parametrize(
    "password",
    ["password1234", "coordinator1", "aaaaaaaaaaaaaaaa", "qwertyuiop12", "x" * 201, "short"],
)
def test_weak_passwords_are_refused(world: World, password: str) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    with pytest.raises(Refused) as caught:
        admin.accounts.add("ann", password, Role.VIEWER)
    assert caught.value.problem.code == "weak_password"
    assert password not in caught.value.problem.detail


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("device", "kept for the service"),
        ("Schedule", "kept for the service"),
        ("dеvice", "kept for the service"),
        ("ｄｅｖｉｃｅ", "kept for the service"),
        ("coordi\u200bnator", "cannot be seen"),
        ("cооrdinator", "looks like|look alike"),
        ("COORDINATOR", "already an account"),
        ("c00rdinator", "looks like"),
        ("ann\u202e", "cannot be seen"),
        ("\u2800\u2800", "no letters|cannot be seen|looks"),
    ],
)
def test_names_that_mean_or_look_like_another_are_refused(
    world: World, name: str, words: str
) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    with pytest.raises(Refused, match=words):
        admin.accounts.add(name, "nine grey herons wait", Role.VIEWER)


@pytest.mark.parametrize("name", ["مريم", "Зоя", "zoë", "ann.gannet", "北港"])
def test_names_of_every_script_are_names(world: World, name: str) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    admin.accounts.add(name, "nine grey herons wait", Role.VIEWER)
    with Sortitor(world.url) as s:
        assert s.accounts.sign_in(name, "nine grey herons wait").name == name


def test_two_administrators_cannot_disable_each_other_at_once(world: World) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    for round_ in range(4):
        for number in (0, 1):
            admin.accounts.add(f"a{round_}-{number}", "nine grey herons wait", Role.ADMINISTRATOR)
        numbers = {one.name: one.id for one in admin.accounts.list()}
        first, second = (numbers[f"a{round_}-{number}"] for number in (0, 1))
        own = numbers["administrator"]
        world.rows("UPDATE accounts SET role = 'viewer' WHERE id = %s RETURNING id", own)
        world.rows(
            "UPDATE accounts SET disabled_at = now() WHERE role = 'administrator' AND id NOT IN"
            " (%s, %s) RETURNING id",
            first,
            second,
        )

        def disable(pair: tuple[Sortitor, int]) -> bool:
            try:
                pair[0].accounts.edit(pair[1], disabled=True)
            except (Refused, SignInNeeded):
                return False
            return True

        both = [world.client(None), world.client(None)]
        for number, client in enumerate(both):
            client.accounts.sign_in(f"a{round_}-{number}", "nine grey herons wait")
        pairs = list(zip(both, (second, first), strict=True))
        with ThreadPoolExecutor(2) as threads:
            done = list(threads.map(disable, pairs))
        assert sorted(done) == [False, True]
        world.rows(
            "UPDATE accounts SET role = 'administrator', disabled_at = NULL WHERE id = %s"
            " RETURNING id",
            own,
        )


def test_an_edit_that_changes_nothing_is_refused(world: World) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    with pytest.raises(Refused, match="Nothing of the account"):
        admin.accounts.edit(1)


def test_nobody_learns_which_accounts_there_are(world: World) -> None:
    with http(world, None) as client:
        answers = [
            client.post("/api/v1/session", json={"name": name, "password": "wrong wrong wrong"})
            for name in ("administrator", "nobody at all")
        ]
        assert [a.status_code for a in answers] == [401, 401]
        assert answers[0].json()["detail"] == answers[1].json()["detail"]


@pytest.mark.parametrize(
    ("method", "path", "body", "role"),
    [
        ("GET", "/api/v1/devices", None, Role.VIEWER),
        ("POST", "/api/v1/pools", {"name": "p", "seats": 1}, Role.COORDINATOR),
        ("GET", "/api/v1/accounts", None, Role.ADMINISTRATOR),
        (
            "POST",
            "/api/v1/accounts",
            {"name": "n", "password": PASSWORD, "role": "viewer"},
            Role.ADMINISTRATOR,
        ),
    ],
)
def test_each_role_does_what_it_may(
    world: World, method: str, path: str, body: object, role: Role
) -> None:
    with http(world, None) as client:
        assert client.request(method, path, json=body).status_code == 401
    for held in Role:
        with http(world, held) as client:
            answer = client.request(method, path, json=body)
            assert (answer.status_code == 403) == (not covers(held, role)), answer.text


def test_a_token_is_shown_once_ends_when_revoked_and_never_exceeds_its_account(
    world: World,
) -> None:
    s = world.in_person()
    with pytest.raises(Refused, match="coordinator"):
        s.accounts.add_token("too much", Role.ADMINISTRATOR)
    made = s.accounts.add_token("script", Role.VIEWER, 1)
    with Sortitor(world.url, made.secret) as script:
        assert script.accounts.me().role is Role.VIEWER
        s.accounts.revoke_token(made.id)
        with pytest.raises(SignInNeeded):
            script.accounts.me()
    assert made.secret not in str(world.rows("SELECT * FROM tokens"))
    assert [t.name for t in s.accounts.tokens()] == ["tests"]


def test_a_disabled_account_is_out_at_once(world: World) -> None:
    admin = world.client(Role.ADMINISTRATOR)
    account = next(a for a in admin.accounts.list() if a.name == "viewer")
    admin.accounts.edit(account.id, disabled=True)
    with pytest.raises(SignInNeeded):
        world.client(Role.VIEWER).accounts.me()
    own = next(a for a in admin.accounts.list() if a.name == "administrator")
    with pytest.raises(Refused, match="own"):
        admin.accounts.edit(own.id, disabled=True)


def test_the_first_start_makes_a_secret_that_works_once(world: World, tmp_path: Path) -> None:
    assert offer_setup(world.run) is None, "there are accounts already"
    world.rows("TRUNCATE accounts CASCADE")
    secret = "a one-time secret"
    assert accounts.offer_setup(world.run.engine, secret)
    s = world.client(None)
    with pytest.raises(SignInNeeded, match="one-time"):
        s.accounts.first("not the secret", "harbour", PASSWORD)
    with pytest.raises(Refused, match="12 characters"):
        s.accounts.first(secret, "harbour", "short")
    s.accounts.first(secret, "harbour", PASSWORD)
    with pytest.raises(Refused, match="already"):
        s.accounts.first(secret, "second", PASSWORD)
    assert s.accounts.sign_in("harbour", PASSWORD).role is Role.ADMINISTRATOR


def test_a_technician_gives_and_names_and_changes_no_rules(world: World, tmp_path: Path) -> None:
    import_lot(
        world.client(),
        manifest(tmp_path, ["serial", "KM-1"]),
        platform="android",
        ownership="personal",
    )
    import_people(world.client(), tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew")
    s = world.client(Role.TECHNICIAN)
    assert [device.serial for device in s.devices.list()] == ["KM-1"]
    s.devices.assign(1, "maud", s.devices.preview_assign(1, "maud").digest)
    s.devices.name(1, "BRIDGE")
    for act in (
        lambda: change_baseline(s, quota=9),
        lambda: s.pools.add(Pool(name="Charts", seats=1)),
        lambda: s.cohorts.add(Cohort(name="All", filter="id pr")),
        lambda: s.journal.revert(1, "0"),
    ):
        with pytest.raises(Refused, match="As technician you may not"):
            act()
