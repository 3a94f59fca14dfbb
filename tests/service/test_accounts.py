"""Signing in, roles, tokens, the first administrator."""

from pathlib import Path

import pytest
from tests.worlds import PASSWORD, World, http

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded
from sortitor.core.access import covers
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
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


def test_guessing_is_slowed_down_and_a_right_password_forgives(world: World) -> None:
    with http(world, None) as client:
        for _ in range(4):
            assert (
                client.post(
                    "/api/v1/session", json={"name": "viewer", "password": "guess guess guess"}
                ).status_code
                == 401
            )
        slowed = client.post("/api/v1/session", json={"name": "viewer", "password": PASSWORD})
        assert slowed.status_code == 429
        assert int(slowed.headers["retry-after"]) >= 1
        assert (
            client.post(
                "/api/v1/session", json={"name": "coordinator", "password": PASSWORD}
            ).status_code
            == 200
        )
        world.rows(
            "UPDATE accounts SET failed_at = failed_at - interval '1 hour' WHERE name = 'viewer'"
        )
        assert (
            client.post(
                "/api/v1/session", json={"name": "viewer", "password": PASSWORD}
            ).status_code
            == 200
        )


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
    s = world.client()
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
    secret = accounts.offer_setup(world.run.engine, world.run.clock)
    assert secret is not None
    s = world.client(None)
    with pytest.raises(SignInNeeded, match="one-time"):
        s.accounts.first("not the secret", "harbour", PASSWORD)
    with pytest.raises(Refused, match="12 characters"):
        s.accounts.first(secret, "harbour", "short")
    s.accounts.first(secret, "harbour", PASSWORD)
    with pytest.raises(Refused, match="already"):
        s.accounts.first(secret, "second", PASSWORD)
    assert s.accounts.sign_in("harbour", PASSWORD).role is Role.ADMINISTRATOR
