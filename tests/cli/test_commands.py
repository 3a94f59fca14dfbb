"""The whole job from a terminal: outputs, exit codes, errors."""

import csv
import io
import json
import re
from pathlib import Path

import click
import polars as pl
import pytest
from tests.cli.conftest import Run
from tests.worlds import (
    PASSWORD,
    World,
    a_pass,
    imei,
    import_lot,
    import_people,
    knocking,
    manifest,
)

from sortitor.cli.main import _COMMANDS, root
from sortitor.core.vocabulary import Role
from sortitor.schemas.licences import Pool


def every_command(
    group: click.Command = root, path: tuple[str, ...] = ()
) -> list[tuple[tuple[str, ...], click.Command]]:
    if not isinstance(group, click.Group):
        return [(path, group)]
    ctx = click.Context(group)
    return [
        found
        for name in group.list_commands(ctx)
        for found in every_command(group.get_command(ctx, name), (*path, name))
    ]


@pytest.mark.parametrize(
    ("path", "command"), every_command(), ids=[" ".join(path) for path, _ in every_command()]
)
def test_every_help_has_an_example_and_every_option_its_words(
    path: tuple[str, ...], command: click.Command
) -> None:
    text = command.get_help(click.Context(command, info_name=" ".join(path), max_content_width=110))
    assert "Example" in text, path
    assert f"sortitor {path[0]}" in text or path[0] in ("serve", "work", "demo")
    for parameter in command.params:
        if isinstance(parameter, click.Option):
            assert parameter.help, (path, parameter.name)


def test_the_root_lists_every_command(run: Run) -> None:
    said = run("--help")
    assert all(name in said.out for name in _COMMANDS)
    wrong = run("lott")
    assert (wrong.code, "'lot'" in wrong.err) == (2, True)


def test_signing_in_saves_a_profile_that_only_its_owner_reads(
    run: Run, world: World, tmp_path: Path
) -> None:
    nobody = run("device", "list", role=None)
    assert nobody.code == 3
    assert "sign in" in nobody.err.lower()
    said = run("account", "sign-in", "--name", "coordinator", "--password", PASSWORD, role=None)
    assert said.code == 0, said.err
    [profile] = (tmp_path / "config").rglob("profiles.json")
    assert profile.stat().st_mode & 0o077 == 0
    assert run("device", "list", role=None).code == 0
    assert (
        run(
            "account",
            "sign-in",
            "--name",
            "coordinator",
            "--password",
            "wrong wrong wrong",
            role=None,
        ).code
        == 3
    )


def test_nobody_answers(run: Run, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("time.sleep", lambda _: None)
    said = run("--url", "http://127.0.0.1:1", "device", "list")
    assert said.code == 3
    assert "sortitor serve" in said.err


def test_a_lot_from_file_to_reverted(run: Run, tmp_path: Path) -> None:
    path = manifest(tmp_path, ["S/N,IMEI,Karton", f"KM-1,{imei(1)},7", "KM-2,3.5E+14,8", "TBC,,9"])
    checked = run("lot", "check", path, "--set", "ownership=corporate", "--set", "platform=android")
    assert checked.code == 1, "there are findings"
    assert "S/N → serial" in checked.out
    assert "Karton → kept as detail" in checked.out
    assert "power of ten" in checked.out
    assert "Next: sortitor lot" in checked.err
    again = run("lot", "check", path, "--set", "ownership=corporate", "--set", "platform=android")
    assert "nothing was imported twice" in again.err
    refused = run("lot", "apply", "1")
    assert refused.code == 2
    assert "--yes" in refused.err, "a pipe cannot answer"
    applied = run("lot", "apply", "1", "--yes", "--reason", "delivery")
    assert applied.code in (0, 1), applied.err
    assert "devices to add" in applied.err
    rows = run("lot", "rows", "1", "--verdict", "reject", "-o", "json")
    assert [row["row"] for row in json.loads(rows.out)] == [3, 4]
    target = tmp_path / "back.csv"
    assert run("lot", "export", "1", "--to", target).code == 0
    assert target.read_bytes() == path.read_bytes()
    assert run("lot", "revert", "1", "--yes").code == 0
    assert json.loads(run("device", "list", "-o", "json").out) == []
    assert run("lot", "apply", "1", "--yes").code == 5
    assert run("lot", "show", "99").code == 4


def test_devices_are_found_read_declared_named_and_held(
    run: Run, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    code = a_pass(s, person="maud")
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-00{number}1"))
    listed = run("device", "list", "--ownership", "personal")
    assert listed.out.count("KM-00") == 3
    lines = list(csv.DictReader(io.StringIO(run("device", "list", "-o", "csv").out)))
    assert [line["serial"] for line in lines] == ["KM-0001", "KM-0011", "KM-0021"]
    assert len(run("device", "list", "-o", "jsonl").out.splitlines()) == 3
    assert (
        run("device", "list", "--filter", 'serial ew "11" and person.groups eq "crew"').out.count(
            "KM-00"
        )
        == 1
    )
    refused = run("device", "list", "--filter", 'serail eq "x"')
    assert (refused.code, "did you mean serial?" in refused.err, "\n^" in refused.err) == (
        4,
        True,
        True,
    )
    shown = run("device", "show", "KM-0011")
    assert "Maud Fenwick" in shown.out
    assert "Timeline" in shown.out
    assert run("device", "show", "KM-00").code in (2, 4), "which one is not clear"
    assert (
        run(
            "device", "declare", "corporate", "--platform", "android", "--yes", "--reason", "bought"
        ).code
        == 0
    )
    assert run("device", "name", "KM-0011", "LAMP-1").code == 0
    assert run("device", "name", "KM-0021", "lamp-1").code == 5
    assert (
        run(
            "hold", "add", "-q", "LAMP-1", "--until", "2026-04-12", "--reason", "laid up", "-y"
        ).code
        == 0
    )
    assert "2026-04-12" in run("device", "show", "LAMP-1").out
    assert run("device", "report", "stolen", "-q", "LAMP-1", "-y").code == 0
    assert "stolen" in run("device", "list", "--query", "LAMP-1").out


def test_the_gate_is_tried_saved_and_taken_back(run: Run, world: World, tmp_path: Path) -> None:
    shown = json.loads(run("gate", "show", "-o", "json").out)
    file = tmp_path / "gate.json"
    policies = shown["policies"] if isinstance(shown, dict) else shown
    policies[-1]["platforms"]["android"]["versions"] = {"oldest": "13"}
    file.write_text(json.dumps(policies))
    assert "os_too_old" not in run("gate", "try", "--platform", "android", "--os", "9").out
    saved = run("gate", "edit", file, "--yes")
    assert saved.code == 0, saved.err
    tried = run("gate", "try", "--platform", "android", "--os", "9")
    assert (tried.code, "os_too_old" in tried.out) == (1, True)
    assert "Every step" in tried.out
    file.write_text('[{"name": "Baseline", "quota": 99}]')
    bad = run("gate", "edit", file, "--yes")
    assert bad.code == 4
    assert "1 to 50" in bad.err


def test_a_pass_a_fleet_and_who_waits(run: Run, world: World) -> None:
    made = run(
        "pass", "add", "Help desk", "--activation", "coordinator", "--ownership", "corporate"
    )
    assert made.code == 0, made.err
    code = re.search(r"[0-9A-Z]{5}-[0-9A-Z]{5}", made.out)
    assert code
    let_in = run("simulate", "--code", code[0], "--count", 4)
    assert let_in.code == 0, let_in.err
    assert "parked" in let_in.out
    waiting = json.loads(run("arrival", "list", "--waiting", "-o", "json").out)
    assert len(waiting) == 4
    assert run("device", "assign", waiting[0]["device_id"], "--nobody", "--yes").code == 0
    assert "Help desk" in run("pass", "list").out
    today = run("today")
    assert "3 devices wait to be assigned" in today.out
    assert "sortitor arrival list --waiting" in today.out


def test_seats_sweeps_names_people_and_the_journal(run: Run, world: World, tmp_path: Path) -> None:
    people = manifest(tmp_path, ["user name,name,groups", "maud,Maud Fenwick,Crew"], "people.csv")
    assert run("person", "import", people, "--yes").code == 0
    assert "Maud Fenwick" in run("person", "list").out
    world.client().agent.knock(knocking(a_pass(world.client(), activation="shared"), "KM-1"))
    assert run(
        "pool", "add", "Signage", "--seats", 0, "--filter", 'platform eq "android"', "--yes"
    ).code in (0, 1)
    assert "short" in run("pool", "list").out
    assert run("rule", "add", "Quiet", "--idle-window", 20, "--yes").code == 4
    assert run("rule", "add", "Quiet", "--idle-window", 30, "--yes").code == 0
    world.later(days=50)
    shown = run("sweep", "preview", 1)
    assert "1  devices to retire" in shown.err + shown.out
    assert run("sweep", "apply", 1, "--yes").code == 0
    assert run("sweep", "revert", 1, "--yes").code == 0
    assert (
        run("name", "edit", "ships", "SHIP-{n|pad 3}", "--platform", "android", "--yes").code == 0
    )
    assert "SHIP-001" in run("name", "preview").err
    entries = json.loads(run("journal", "list", "-o", "json").out)
    assert [e["operation"] for e in entries[:2]] == ["naming.edit", "sweep.apply.revert"]
    assert run("journal", "show", entries[-1]["id"]).code == 0


def test_a_viewer_reads_and_changes_nothing(run: Run, tmp_path: Path) -> None:
    path = manifest(tmp_path, ["serial", "KM-1"])
    assert run("device", "list", role=Role.VIEWER).code == 0
    said = run("lot", "check", path, role=Role.VIEWER)
    assert said.code == 4
    assert "coordinator" in said.err


def test_a_lot_is_settled_edited_resolved_and_taken_out(run: Run, tmp_path: Path) -> None:
    path = manifest(tmp_path, ["Nummer,IMEI", "KM-1,3.5E+14", f"KM-2,{imei(2)}", "TBC,"])
    assert "No column" not in run("lot", "check", path).out, "the IMEI is one"
    settled = run("lot", "columns", 1, "serial=Nummer")
    assert "Nummer → serial" in settled.out
    assert "headers on line" not in settled.out
    edited = run("lot", "edit", 1, "IMEI", imei(1), "--row", 2)
    assert re.search(r"2\s+add", edited.out)
    assert run("lot", "edit", 1, "IMEI", "--row", 2).code == 2, "a value, or --blank"
    assert run("lot", "edit", 1, "IMEI", "x").code == 2, "which rows"
    target = tmp_path / "mend.xlsx"
    out = run("lot", "takeout", 1, "--to", target)
    assert target.read_bytes().startswith(b"PK")
    assert "--like 1" in out.err
    resolved = run("lot", "resolve", 1, "skip", "--verdict", "reject")
    assert (resolved.code, "left out by hand" in resolved.out) == (0, True)
    assert run("lot", "apply", 1, "--yes").code == 0
    template = tmp_path / "t.csv"
    assert run("lot", "template", "android", "--to", template).code == 0
    assert template.read_text("utf-8-sig").startswith("serial,imei")


def test_an_order_from_ordered_to_short(run: Run, tmp_path: Path) -> None:
    assert (
        run(
            "order",
            "add",
            "WL-1",
            "--line",
            "Mate 3=3@189.00",
            "--supplier",
            "Ondry Trade",
            "--yes",
        ).code
        == 0
    )
    assert run("order", "edit", "WL-1", "--line", "Mate 3").code == 2
    assert (
        run(
            "lot",
            "check",
            manifest(tmp_path, ["serial,maker,model,order", "KM-1,Kelmar,Mate 3,WL-1"]),
        ).code
        == 0
    )
    assert run("lot", "apply", 1, "--yes").code == 0
    shown = run("order", "show", "wl-1")
    assert (shown.code, "189.00" in shown.out) == (1, True), "it is short"
    order = json.loads(run("order", "show", "WL-1", "-o", "json").out)
    assert [line["short"] for line in order["tally"]] == [2]
    assert "WL-1" in run("order", "list").out
    assert run("order", "remove", "WL-1", "--yes").code == 0
    assert run("order", "show", "WL-1").code == 4


def test_cohorts_from_the_terminal(run: Run, world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Crew")
    code = a_pass(s, person="maud")
    for number in range(3):
        s.agent.knock(knocking(code, f"KM-00{number}1"))
    assert "No cohorts yet" in run("cohort", "list").err
    added = run("cohort", "add", "Crew phones", "--filter", 'person.groups eq "crew"', "--yes")
    assert (added.code, "3  devices in it" in added.err) == (0, True)
    fault = run("cohort", "add", "Wrong", "--filter", 'platform eq "andriod"', "--yes")
    assert (fault.code, "did you mean android?" in fault.err, "\n            ^" in fault.err) == (
        4,
        True,
        True,
    )
    assert run("cohort", "add", "Lent out", "--yes").code == 0
    listed = tmp_path / "lent.txt"
    listed.write_text("KM-0001, KM-0011;NOBODY")
    assert "1 identifier not known: NOBODY" in run("cohort", "put", "lent out", listed, "--yes").err
    assert run("device", "list", "--cohort", 2).out.count("KM-00") == 2
    shared = run("cohort", "compare", "Crew phones", "Lent out")
    assert "In both" in shared.out
    why = run("cohort", "explain", "Lent out", 3)
    assert "not in" in why.out
    assert "  yes  person.groups" in run("cohort", "explain", "Crew phones", 3).out
    edited = run(
        "cohort",
        "edit",
        "Crew phones",
        "--filter",
        'serial ew "1" and not (serial eq "KM-0001")',
        "--yes",
    )
    assert "leave" in edited.err
    assert run("cohort", "take", "Lent out", "--filter", "serial pr", "--yes").code == 0
    assert json.loads(run("cohort", "list", "-o", "json").out)[1]["devices"] == 0
    s.pools.add(Pool(name="Apps", seats=1, filter='cohorts eq "crew phones"'))
    used = run("cohort", "remove", "Crew phones", "--yes")
    assert (used.code, "pool “Apps”" in used.err) == (5, True)
    assert run("cohort", "remove", "Lent out", "--yes").code == 0
    assert "idleDays" in run("filter", "attributes").out
    target = tmp_path / "out.xlsx"
    assert (
        run("device", "export", "--to", target, "--column", "name", "--column", "person.name").code
        == 0
    )
    assert pl.read_excel(target)["person.name"].to_list() == ["Maud Fenwick"] * 3
    assert run("device", "export", "--to", tmp_path / "out.pdf").code == 2


def test_people_leave_and_groups_hold_groups(run: Run, world: World, tmp_path: Path) -> None:
    everybody = tmp_path / "all.csv"
    everybody.write_text("user name,name,groups\nmaud,Maud Fenwick,Crew\nodo,Odo Gannet,Office\n")
    assert run("person", "import", everybody, "--yes").code == 0
    assert run("group", "hold", "Office", "crew").code == 0
    listed = json.loads(run("group", "list", "-o", "json").out)
    shown = json.loads(run("group", "show", "office", "-o", "json").out)
    assert shown in listed
    assert [{**one, "revision": None} for one in listed] == [
        {"id": 1, "name": "Crew", "people": 1, "direct": 1, "groups": [], "revision": None},
        {"id": 2, "name": "Office", "people": 2, "direct": 1, "groups": ["Crew"], "revision": None},
    ]
    assert run("group", "hold", "Office", "Nobody").code == 4
    everybody.write_text("user name\nmaud\n")
    shown = run("person", "import", everybody, "--complete", "--yes")
    assert "have left: the file does not name them" in shown.err
    assert "Left" in run("person", "show", 2).out
    assert run("person", "left", 2, "--back").code == 0
    assert "Left" not in run("person", "show", 2).out


def test_a_filter_is_corrected_where_it_is_asked_for(run: Run, tmp_path: Path) -> None:
    path = manifest(tmp_path, ["serial,site,model", "KM-1,Dunlin,Mate 3", "KM-2,,Deck 8"])
    run("lot", "check", str(path), "--set", "platform=android")
    run("lot", "apply", "1", "--yes")
    wrong = run("device", "list", "--filter", "location = Dunlin")
    assert wrong.code == 4
    assert "“location” is called site here" in wrong.out + wrong.err
    assert 'Corrected: site eq "Dunlin"' in wrong.out + wrong.err
    assert "--fix" in wrong.out + wrong.err
    right = run("device", "list", "--filter", "location = Dunlin", "--fix")
    assert (right.code, "KM-1" in right.out, "KM-2" in right.out) == (0, True, False)
    asked = run("device", "list", "--filter", 'site eq ""')
    assert "Do you mean not (site pr)?" in asked.out + asked.err
    meant = run("device", "list", "--filter", 'site eq ""', "--fix")
    assert ("KM-1" in meant.out, "KM-2" in meant.out) == (False, True)
    like = run("device", "list", "--filter", "model like 'Mate%'", "--fix")
    assert ("KM-1" in like.out, "KM-2" in like.out) == (True, False)


def test_how_a_file_was_understood_is_corrected_from_the_terminal(run: Run, tmp_path: Path) -> None:
    lines = [
        "Delivery 4711;;;",
        "Serial;Maker;Kaufdatum;Ort",
        "Deck 4;;;",
        "KM-0001;Kelmar;01/02/2025;Dunlin",
        "KM-0002;Kelmer;03/04/2025;Dunlin",
        "TOTAL22;;;",
    ]
    checked = run("lot", "check", str(manifest(tmp_path, lines)))
    assert checked.code == 1
    for words in (
        "headers   Serial | Maker | Kaufdatum | Ort",
        "left out  Delivery 4711",
        "left out  TOTAL22   (a line of totals)",
        "day or month first?",
        '--dates "Kaufdatum=day"',
        "lot resolve 1 take --row LINE",
    ):
        assert words in checked.out + checked.err, checked
    said = run("lot", "columns", "1", "--dates", "Kaufdatum=day", "--maker", "Kelmer=Kelmar")
    assert (said.code, "2  add" in said.out) == (0, True), said
    rows = run("lot", "rows", "1", "--verdict", "add")
    assert "2025-02-01" in rows.out + rows.err
    taken = run("lot", "resolve", "1", "take", "--row", "6")
    assert "3  add" in taken.out + taken.err
    trusted = run("lot", "columns", "1", "--trust", "Serial", "Ort=department")
    assert trusted.code == 4
    assert "no header" in trusted.out + trusted.err
    again = run("lot", "columns", "1", "department=Ort", "--trust", "Serial")
    assert "numbers taken as they stand" in again.out + again.err


def test_devices_are_given_by_a_list_and_somebody_leaves(
    run: Run, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,Officers", "odo,Odo Gannet,,,,")
    path = manifest(tmp_path, ["serial,site", "KM-1,Dunlin", "KM-2,Petrel", "KM-3,Petrel"])
    import_lot(s, path, platform="android")
    listed = tmp_path / "handed.csv"
    listed.write_text("Who;Serial\nx;KM-1\ny;KM-2\nz;KM-9\n")
    said = run("device", "give", "maud", "--list", listed, "--yes")
    assert (said.code, "row 4, z, KM-9: no device here" in said.err + said.out) == (0, True)
    assert {one.serial for one in s.people.show("maud").devices} == {"KM-1", "KM-2"}
    nothing = tmp_path / "nothing.txt"
    nothing.write_text("ZZ-1\n")
    assert run("device", "declare", "corporate", "--list", nothing, "--yes").code == 2

    assert run("person", "leave", "maud", "--devices", "sell", "--yes").code == 2
    assert run("person", "leave", "maud", "--device", "KM-1", "--yes").code == 2
    said = run(
        *("person", "leave", "maud", "--devices", "take", "--device", "KM-1=give:odo", "--yes")
    )
    assert said.code == 0
    assert "given to somebody else" in said.out + said.err
    assert [one.serial for one in s.people.show("odo").devices] == ["KM-1"]
    assert s.people.show("maud").devices == []
    assert run("device", "take", "--filter", 'person.userName eq "odo"', "--yes").code == 0
    assert s.people.show("odo").devices == []


def test_a_policy_is_added_with_its_last_day(run: Run, world: World, tmp_path: Path) -> None:
    import_people(world.client(), tmp_path, "maud,Maud Fenwick,,,,Officers")
    asked = ("gate", "add", "Refit", "--group", "Officers", "--until", "2026-02-28")
    assert run(*asked, "--say", "quota", "--yes").code == 2
    assert run(*asked, "--say", "quota=many", "--yes").code == 2
    said = run(*asked, "--say", "quota=5", "--yes")
    assert (said.code, "people for whom something changes" in said.out + said.err) == (0, True)
    shown = run("gate", "show")
    assert "Refit – people in Officers until 2026-02-28" in shown.out
    asked = ("gate", "try", "--platform", "android", "--ownership", "corporate")
    assert (
        run("gate", "set", "Baseline", "versions", "12..", "--platform", "android", "--yes").code
        == 0
    )
    assert "It depends on the system version" in run(*asked).out
