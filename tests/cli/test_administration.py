"""Accounts, tokens, naming, policies, pools, sweep rules and the journal from a terminal."""

import json
from pathlib import Path

import pytest
from tests.cli.conftest import Run
from tests.worlds import PASSWORD, World, a_pass, import_lot, import_people, knocking, manifest

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation, Role

SECRET = "another long password"


def test_accounts_are_added_changed_and_locked(run: Run, world: World) -> None:
    assert (
        run(
            "account",
            "add",
            "ann",
            "--role",
            "viewer",
            "--password",
            SECRET,
            role=Role.ADMINISTRATOR,
        ).code
        == 0
    )
    assert (
        run(
            "account",
            "add",
            "Ann",
            "--role",
            "viewer",
            "--password",
            SECRET,
            role=Role.ADMINISTRATOR,
        ).code
        == 5
    )
    short = run(
        "account", "add", "bob", "--role", "viewer", "--password", "short", role=Role.ADMINISTRATOR
    )
    assert (short.code, "12" in short.err) == (4, True)
    assert run("account", "add", "bob", "--role", "viewer", "--password", SECRET).code == 4, (
        "a coordinator adds no accounts"
    )
    [ann] = [
        line
        for line in json.loads(run("account", "list", "-o", "json", role=Role.ADMINISTRATOR).out)
        if line["name"] == "ann"
    ]
    assert (ann["role"], ann["disabled_at"]) == ("viewer", None)
    assert (
        run("account", "edit", ann["id"], "--role", "coordinator", role=Role.ADMINISTRATOR).code
        == 0
    )
    with Sortitor(world.url) as s:
        assert s.accounts.sign_in("ann", SECRET).role is Role.COORDINATOR
    assert run("account", "edit", ann["id"], "--disable", role=Role.ADMINISTRATOR).code == 0
    assert run("account", "sign-in", "--name", "ann", "--password", SECRET, role=None).code == 3
    assert run("account", "edit", ann["id"], "--enable", role=Role.ADMINISTRATOR).code == 0
    assert run("account", "sign-in", "--name", "ann", "--password", SECRET, role=None).code == 0


def test_the_second_first_administrator_is_refused(run: Run) -> None:
    said = run(
        "account", "first", "--secret", "x" * 30, "--name", "eve", "--password", SECRET, role=None
    )
    assert (said.code, "has its first administrator already" in said.err) == (5, True)


def test_a_token_is_shown_once_used_and_revoked(run: Run, world: World) -> None:
    made = run(
        "token", "add", "nightly", "--role", "viewer", "--until", "+7", "--password", PASSWORD
    )
    assert made.code == 0
    secret = made.out.strip()
    with Sortitor(world.url, secret) as s:
        assert s.devices.count() == 0
    listed = json.loads(run("token", "list", "-o", "json").out)
    [token] = [t for t in listed if t["name"] == "nightly"]
    assert secret not in json.dumps(listed)
    assert run("token", "revoke", token["id"]).code == 0
    with Sortitor(world.url, secret) as s, pytest.raises(Exception, match="revoked"):
        s.devices.count()
    too_much = ("token", "add", "too much", "--role", "administrator")
    assert run(*too_much, "--password", PASSWORD).code == 4, "not more than one has"
    assert run("token", "add", "x", "--until", "+1000").code == 2


def test_templates_are_listed_put_in_order_tried_and_removed(
    run: Run, world: World, tmp_path: Path
) -> None:
    import_lot(
        world.client(),
        manifest(
            tmp_path,
            ["serial,maker,platform,site", "KM-1,Kelmar,windows,Dunlin", "KM-2,Kelmar,android,"],
        ),
    )
    assert (
        run(
            "name",
            "edit",
            "Laptops",
            "{site|upper|first 3}-{serial|last 6}",
            "--platform",
            "windows",
            "--yes",
        ).code
        == 0
    )
    listed = json.loads(run("name", "list", "-o", "json").out)
    assert [t["name"] for t in listed] == [
        "Laptops",
        "Every platform",
    ], "a new one goes before the one that catches the rest"
    assert "Fields: serial" in run("name", "list").err
    fault = run("name", "edit", "Laptops", "{sight}-{n}")
    assert (fault.code, "\n ^" in fault.err) == (4, True)
    shown = run("name", "preview", "--platform", "windows")
    assert "DUN-KM-1" in shown.err
    assert run("name", "apply", "--platform", "windows").code == 2, "a pipe cannot agree"
    assert (
        run("name", "apply", "--platform", "windows", "--yes", "--reason", "new scheme").code == 0
    )
    assert [d.name for d in world.client().devices.list()] == ["DUN-KM-1", None]
    assert run("name", "remove", "Laptops", "--yes").code == 0
    assert run("name", "remove", "Laptops").code == 2
    assert [d.name for d in world.client().devices.list()] == [
        "DUN-KM-1",
        None,
    ], "names already given stay"


def test_policies_are_read_as_words_and_a_faulty_file_is_pointed_at(
    run: Run, world: World, tmp_path: Path
) -> None:
    import_people(world.client(), tmp_path, "maud,Maud Fenwick,,,,Crew")
    policies = [
        {
            "name": "Crew",
            "groups": ["Crew"],
            "quota": 2,
            "ownerships": ["corporate"],
            "declared_only": True,
        },
        *json.loads(run("gate", "show", "-o", "json").out),
    ]
    file = tmp_path / "gate.json"
    file.write_text(json.dumps(policies))
    saved = run("gate", "edit", file, "--yes", "--reason", "season")
    assert saved.code == 0, saved.err
    words = run("gate", "show").out
    assert "1. Crew – people in Crew" in words
    assert "devices per person: 2 devices" in words
    assert "refused" in words
    tried = run(
        "gate",
        "try",
        "--platform",
        "android",
        "--os",
        "14",
        "--person",
        "maud",
        "--ownership",
        "personal",
    )
    assert (tried.code, "ownership_denied" in tried.out) == (1, True)
    assert (
        "undeclared"
        in run("gate", "try", "--platform", "android", "--os", "14", "--person", "maud").out
    )
    file.write_text('[{"name": "x", "quota": "many"}]')
    bad = run("gate", "edit", file, "--yes")
    assert (bad.code, "/0/quota" in bad.err) == (2, True)
    file.write_text("[{")
    assert run("gate", "edit", file, "--yes").code == 2


def test_a_pool_that_is_short_says_the_ways_back(run: Run, world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-{number}"))
    world.later(days=100)
    made = run("pool", "add", "Signage", "--seats", 1, "--filter", 'platform eq "android"', "--yes")
    assert made.code == 0
    shown = run("pool", "show", 1)
    assert "Short of 2. Ways back:" in shown.out
    assert "Use a voucher for 2 more seats." in shown.out
    assert "Retire 2 of 3 that are idle for 90 days or more." in shown.out
    assert run("pool", "list").code == 1
    assert "0  seats short" in run("pool", "edit", 1, "--seats", 3, "--yes").err
    assert run("pool", "list").code == 0
    fault = run("pool", "edit", "Signage", "--filter", "platfrom pr", "--yes")
    assert (fault.code, "did you mean platform?" in fault.err) == (4, True)
    assert run("pool", "remove", 1, "--yes").code == 0
    [entry] = [
        e
        for e in json.loads(run("journal", "list", "--operation", "pool.remove", "-o", "json").out)
    ]
    assert run("journal", "revert", entry["id"], "--yes", "--reason", "still needed").code == 0
    assert "Signage" in run("pool", "list").out
    assert run("journal", "revert", entry["id"], "--yes").code == 5, "once"
    assert "No pools yet" not in run("pool", "list").err


def test_a_sweep_rule_from_added_to_removed(run: Run, world: World) -> None:
    s = world.client()
    code = a_pass(s, activation=Activation.SHARED)
    for number in range(4):
        s.agent.knock(knocking(code, f"KM-{number}"))
    assert run("rule", "add", "Quiet", "--idle-window", 30, "--brake", 100, "--yes").code == 0
    world.later(days=45)
    assert run("sweep", "apply", 1).code == 2
    assert run("sweep", "apply", 1, "--yes").code == 0
    assert "Quiet" in run("sweep", "list").out
    assert json.loads(run("sweep", "list", "-o", "json").out)[0]["retired"] == 4
    changes = ["--name", "Quieter", "--idle-window", 60, "--filter", 'platform eq "ios"']
    edited = run("rule", "edit", 1, *changes, "--yes")
    assert edited.code == 0, edited.err
    assert "Quieter" in run("rule", "list").out
    bounds = run("rule", "edit", 1, "--idle-window", 401, "--yes")
    assert (bounds.code, "400" in bounds.err) == (4, True)
    assert run("rule", "remove", 1, "--yes").code == 0
    assert "Quieter" not in run("rule", "list").out
    assert run("sweep", "revert", 1, "--yes").code == 0, "a run is taken back without its rule"
    assert s.devices.count(filter='stage eq "active"') == 4


def test_the_journal_says_what_each_device_was_and_became(run: Run, world: World) -> None:
    s = world.client()
    s.agent.knock(knocking(a_pass(s, activation=Activation.SHARED), "KM-1"))
    assert run("device", "report", "stolen", "-q", "KM-1", "-y").code == 0
    [entry] = json.loads(run("journal", "list", "--operation", "device.report", "-o", "json").out)
    shown = run("journal", "show", entry["id"])
    assert "DEVICE-00001: flag: – → stolen" in shown.out
    assert "coordinator" in run("journal", "list", "--actor", "coordinator", "--most", 1).out
    assert json.loads(run("journal", "list", "--actor", "nobody", "-o", "json").out) == []
    assert run("journal", "show", 999).code == 4
    today = json.loads(run("today", "-o", "json").out)
    assert today["stages"] == {"active": 1}
