"""The grammar of the command line, held for every command; docs/handbook/reference/grammar.md says
it in words.
"""

import json
import re
import subprocess
from datetime import datetime, timedelta
from pathlib import Path

import click
import pytest
from tests.cli.conftest import Run
from tests.processes import SORTITOR
from tests.worlds import World, a_pass, import_lot, manifest

from sortitor.cli import main as cli
from sortitor.core.vocabulary import Role

#: What runs the service or answers for its data, on its own machine.
OPERATING = {
    *("backup", "backup-key", "check", "demo", "migrate", "recover", "restore", "rotate-keys"),
    *("serve", "settings", "simulate", "stand-in", "work"),
}
VERBS_THAT_SHOW = {"list", "show", "preview", "revisions", "overview", "states", "explain"}
#: Shown as what it is: a file, a key, a text for somebody else.
SHOWN_AS_IT_IS = {"source key", "source diagnosis", "sheet export", "completion", "journal verify"}
#: Changes that are previewed have the three options; these are small, done at once, and said to be
#: taken back by the journal, or they change nothing that the fleet sees.
DONE_AT_ONCE = {
    *("account add", "account edit", "account first", "account set-password", "account sign-in"),
    *("account sign-out", "arrival turn-away", "config remove", "device name", "file put"),
    *("group hold", "hold end", "here", "item try-account", "job cancel", "level decide"),
    *("lot check", "lot columns", "lot discard", "lot edit", "lot resolve", "mail again"),
    *("mail test", "pass add", "pass add-each", "pass remind", "pass revoke", "person left"),
    *("session end", "source credential", "source forget", "source run", "token add"),
    *("token revoke", "view remove", "source hand-over", "file remove", "hold add"),
    # Confirmed by the number of devices instead.
    *("device erase", "sweep erase"),
}


def commands() -> dict[str, click.Command]:
    """Every command by its words, without those that run the service."""
    found: dict[str, click.Command] = {}

    def walk(command: click.Command, words: tuple[str, ...]) -> None:
        if isinstance(command, click.Group):
            ctx = click.Context(command)
            for name in command.list_commands(ctx):
                inner = command.get_command(ctx, name)
                assert inner is not None
                walk(inner, (*words, name))
        elif words[0] not in OPERATING:
            found[" ".join(words)] = command

    walk(cli.root, ())
    return found


COMMANDS = commands()


def flags(command: click.Command) -> set[str]:
    return {
        flag
        for parameter in command.params
        if isinstance(parameter, click.Option)
        for flag in parameter.opts
    }


def test_what_shows_something_is_written_as_data_too() -> None:
    shows = [
        words
        for words, command in COMMANDS.items()
        if words.split()[-1] in VERBS_THAT_SHOW and "-o" not in flags(command)
    ]
    assert set(shows) - SHOWN_AS_IT_IS == set()


def test_what_changes_something_has_the_same_three_options() -> None:
    wanted = {"--yes", "--reason", "--dry-run"}
    for words, command in COMMANDS.items():
        has = flags(command)
        if has & wanted and words not in DONE_AT_ONCE:
            assert wanted <= has, (words, wanted - has)


def test_what_is_done_at_once_can_be_looked_at_first() -> None:
    assert {words for words in DONE_AT_ONCE if "--dry-run" not in flags(COMMANDS[words])} == set()


def test_what_ends_says_so_by_one_option() -> None:
    for words, command in COMMANDS.items():
        assert "--days" not in flags(command), words


def test_files_go_out_by_one_option_and_come_in_by_one_argument() -> None:
    for words, command in COMMANDS.items():
        for parameter in command.params:
            if isinstance(parameter.type, click.Path) and parameter.type.exists is False:
                assert parameter.opts == ["--to"], words
                assert "--overwrite" in flags(command), words


def test_one_thing_has_one_name_everywhere() -> None:
    others = {"--file": "--to", "--output-file": "--to", "--limit": "--most", "--force": "--yes"}
    for words, command in COMMANDS.items():
        for flag in flags(command):
            assert flag not in others or words == "source credential", (words, others.get(flag))
            assert flag == flag.lower()
            assert re.fullmatch(r"-[a-z]|--[a-z][a-z0-9-]*", flag), (words, flag)


def test_every_verb_is_in_the_written_grammar() -> None:
    page = Path("docs/handbook/reference/grammar.md").read_text()
    told = set(re.findall(r"`([a-z-]+)`", page))
    verbs = {words.split()[-1] for words in COMMANDS}
    assert verbs - told == set()


def test_a_new_thing_is_its_number_on_standard_output(run: Run) -> None:
    made = run("pool", "add", "Signage", "--seats", 3, "--yes")
    assert (made.code, made.out.strip().isdecimal()) == (0, True)
    assert run("pool", "show", made.out.strip()).code == 0


def test_a_dry_run_shows_and_changes_nothing(run: Run, world: World, tmp_path: Path) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,platform", "KM-1,android"]))
    for words in (
        ("pool", "add", "Signage", "--seats", 3),
        ("device", "declare", "corporate", "--id", 1),
        ("device", "retire", "--id", 1),
        ("lot", "revert", 1),
        ("gate", "add", "Crew", "--say", "quota=3"),
    ):
        before = world.rows("SELECT count(*), max(id) FROM journal")
        said = run(*words, "--dry-run")
        assert said.code in (0, 2), (words, said.err)
        assert world.rows("SELECT count(*), max(id) FROM journal") == before, words


def test_a_dry_run_of_what_is_done_at_once_stops_before_its_first_change(
    run: Run, world: World, tmp_path: Path
) -> None:
    s = world.client()
    import_lot(s, manifest(tmp_path, ["serial,platform", "KM-1,android"]))
    file = manifest(tmp_path, ["serial,platform", "KM-2,android"])
    made = run("pass", "add", "Deck")
    number = made.err.split("Pass ")[1].split(";")[0]
    kept = "SELECT (SELECT count(*) FROM journal), (SELECT count(*) FROM lots),"
    kept += " (SELECT count(*) FROM passes WHERE revoked_at IS NULL),"
    kept += " (SELECT count(*) FROM tokens), (SELECT count(*) FROM accounts),"
    kept += " (SELECT string_agg(name, ',') FROM devices)"
    before = world.rows(kept)
    for words in (
        ("device", "name", 1, "NEW-1"),
        ("lot", "check", file),
        ("pass", "add", "Bridge"),
        ("pass", "revoke", number),
        ("account", "add", "mira", "--role", "viewer", "--password", "a long enough password"),
        ("hold", "add", "--id", 1, "--until", "+30", "--reason", "in repair"),
        ("mail", "test", "me@example.org"),
    ):
        said = run(*words, "--dry-run")
        assert said.code == 0, (words, said.err)
        assert world.rows(kept) == before, words
    assert "Nothing was changed." in run("pass", "revoke", number, "--dry-run").err
    assert run("pass", "revoke", number).code == 0
    assert world.rows(kept) != before


def test_a_dry_run_keeps_saved_connections(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "profiles.json"
    monkeypatch.setattr("sortitor.cli.connection.profiles_file", lambda: file)
    # One that was kept without its token's number, and one with it.
    for more in ({}, {"token_id": 1}):
        kept = {"default": {"url": "http://127.0.0.1:9", "token": "x", **more}}
        file.write_text(json.dumps(kept))
        for words in (("account", "sign-out"), ("config", "remove", "default")):
            said = run(*words, "--dry-run")
            assert (said.code, "Nothing was changed." in said.err) == (0, True), said.err
            assert json.loads(file.read_text()) == kept, words


def test_until_takes_a_day_or_a_number_of_days(run: Run) -> None:
    day = (datetime.now().astimezone() + timedelta(days=30)).date().isoformat()
    for text in (day, "+30"):
        made = run("pass", "add", "Deck", "--until", text)
        assert made.code == 0, made.err
    ends = [one["valid_until"][:10] for one in json.loads(run("pass", "list", "-o", "json").out)]
    assert len(set(ends)) == 1
    for text, why in (("soon", "is not a day"), ("+0", "from tomorrow on"), ("+999", "398 days")):
        refused = run("pass", "add", "Deck", "--until", text)
        assert refused.code == 2
        assert why in refused.err


def test_a_file_is_not_overwritten_unasked(run: Run, tmp_path: Path) -> None:
    there = tmp_path / "devices.csv"
    there.write_text("mine")
    refused = run("device", "export", "--to", there)
    assert refused.code == 2
    assert "--overwrite" in refused.err
    assert there.read_text() == "mine"
    assert run("device", "export", "--to", there, "--overwrite").code == 0
    assert there.read_text() != "mine"


@pytest.mark.parametrize(
    ("words", "given", "wanted"),
    [
        (("device", "export", "--to", "-", "--column", "serial"), "", "KM-1"),
        (("journal", "list", "--to", "-"), "", "lot.apply"),
        (("lot", "check", "-"), "serial,platform\nKM-2,ios\n", ""),
        (("device", "retire", "--list", "-", "--dry-run"), "KM-1\n", ""),
    ],
)
def test_standard_input_and_output_are_files_too(
    run: Run, world: World, tmp_path: Path, words: tuple[str, ...], given: str, wanted: str
) -> None:
    import_lot(world.client(), manifest(tmp_path, ["serial,platform", "KM-1,android"]))
    assert run("pool", "list").code == 0
    done = subprocess.run(
        [SORTITOR, *words], input=given, capture_output=True, text=True, timeout=60, check=False
    )
    assert done.returncode == 0, done.stderr
    assert wanted in done.stdout
    if wanted:
        assert "Written" not in done.stderr


def test_quiet_says_nothing_but_data_and_errors(run: Run) -> None:
    assert run("--quiet", "pool", "add", "Signage", "--seats", 3, "--yes").err.count("Added") == 0
    wrong = run("-q", "pool", "show", "Nothing")
    assert (wrong.code, "Error: There is no" in wrong.err) == (4, True)
    told = run("--verbose", "pool", "list")
    assert re.search(r"> GET http\S+/pools\S*  200  \d+ ms  [0-9a-f]{32}", told.err)
    assert run("pool", "list").err.count("> GET") == 0


def test_a_token_comes_from_a_file(run: Run, world: World, tmp_path: Path) -> None:
    file = tmp_path / "token"
    file.write_text(world.tokens[Role.VIEWER] + "\n")
    assert run("--token-file", file, "pool", "list", role=None).code == 0
    assert run("--token-file", tmp_path / "none", "pool", "list", role=None).code == 2


def test_profiles_are_listed_used_signed_out_of_and_removed(run: Run, tmp_path: Path) -> None:
    password = tmp_path / "password"
    password.write_text("a long enough password\n")
    signed = ("account", "sign-in", "--name", "coordinator", "--password-file", password)
    assert run(*signed, role=None).code == 0
    assert run("--profile", "second", *signed, role=None).code == 0
    listed = run("config", "list", "-o", "csv", role=None).out
    assert "second" in listed
    assert run("--profile", "second", "pool", "list", role=None).code == 0
    kept = (tmp_path / "config" / "sortitor" / "profiles.json").read_text()
    token = re.findall(r'"token": "([^"]+)"', kept)[-1]
    out = run("--profile", "second", "account", "sign-out", role=None)
    assert (out.code, "second" in run("config", "list", "-o", "csv", role=None).out) == (0, False)
    file = tmp_path / "revoked"
    file.write_text(token)
    assert run("--token-file", file, "pool", "list", role=None).code == 3, "it is revoked"
    assert run("config", "remove", "default", role=None).code == 0
    assert run("config", "remove", "default", role=None).code == 2


def test_jobs_are_seen_and_stopped(run: Run, world: World) -> None:
    with world.client() as s:
        taken = s._transport.http.post(
            "/lots", content=b"serial\nKM-1\n", headers={"Prefer": "respond-async"}
        ).json()
    number = taken["job"]["id"]
    assert "waiting" in run("job", "list", "--running").out
    assert run("job", "show", number, "-o", "json").code == 0
    assert run("job", "cancel", number).code == 0


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_shells_complete(run: Run, shell: str) -> None:
    assert "_SORTITOR_COMPLETE" in run("completion", shell, role=None).out


def test_passes_are_called_by_their_label(run: Run, world: World) -> None:
    a_pass(world.client())
    assert run("pass", "people", "test").code == 0
