"""What every command writes: the same things as a table, JSON, JSON Lines and CSV; nothing, and
nobody's number, with words.
"""

from __future__ import annotations

import csv
import io
import json
import re
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import click
import pytest
from rich.cells import cell_len
from tests.cli.conftest import Run
from tests.draws import first_of
from tests.vouchers import an_issuer, use
from tests.worlds import World, a_pass, hold, import_lot, import_people, knocking, manifest

from sortitor.cli import main as cli
from sortitor.cli.connection import save_profile
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Activation, ItemState, Role, SourceKind
from sortitor.operations import kept_numbers
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.devices import Selection
from sortitor.schemas.kits import (
    AgentReport,
    Checklist,
    Given,
    Item,
    Kit,
    OwnSetting,
    SetupSheet,
)
from sortitor.schemas.licences import Pool
from sortitor.schemas.orders import Order, OrderLine
from sortitor.schemas.sweeps import Rule
from sortitor.schemas.terms import Terms, TermsText
from sortitor.schemas.views import ViewNew, ViewSettings


def commands() -> dict[tuple[str, str], click.Command]:
    """`(noun, verb)` → command."""
    ctx = click.Context(cli.root)
    groups = {name: cli.root.get_command(ctx, name) for name in cli.root.list_commands(ctx)}
    return {
        (name, verb): group.commands[verb]
        for name, group in groups.items()
        if isinstance(group, click.Group)
        for verb in group.list_commands(ctx)
    }


COMMANDS = commands()
#: What shows one thing, or what one thing would be.
ONE_THING = {
    *("show", "read-voucher", "compare", "explain", "preview", "test", "check", "try"),
    *("effective", "replay", "head", "reminders"),
}
LISTS = sorted(
    path
    for path, command in COMMANDS.items()
    if path[1] not in ONE_THING
    and any(
        option.name == "output" and "csv" in getattr(option.type, "choices", ())
        for option in command.params
    )
)
#: What a list of this kind needs besides its name.
MORE: dict[tuple[str, str], list[Any]] = {
    ("lot", "rows"): [1],
    ("pool", "history"): [1],
    ("pass", "people"): [1],
    **{
        (noun, "revisions"): [1]
        for noun in (
            *("cohort", "order", "pool", "rule", "source", "terms"),
            *("checklist", "item", "kit", "own-setting", "sheet"),
        )
    },
    ("source", "roster"): ["Yard"],
    ("terms", "acceptances"): [1],
    ("kit", "reports"): [3],
}
#: Lists that are never empty: attributes, a template for the rest, the accounts of the tests.
NEVER_EMPTY = {
    ("filter", "attributes"),
    ("setting", "list"),
    ("name", "list"),
    ("account", "list"),
    ("token", "list"),
    ("session", "list"),
    ("journal", "list"),
}


def furnish(world: World, tmp_path: Path) -> None:
    """Two of nearly everything, one of them with a name in Arabic and one that a spreadsheet would
    run.
    """
    for profile in ("default", "مرفأ"):
        save_profile(profile, world.url, world.tokens[Role.COORDINATOR], 1)
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,Deck,Dunlin,Crew", "مود,مود فنويك,,,,Officers")
    import_lot(
        s,
        manifest(
            tmp_path,
            [
                "serial,site,asset tag",
                "KM-1,Dunlin,=1+1",
                "KM-2,ميناء الشمال,WL-2",
                "KM-3,北港第一埠頭,",
            ],
        ),
        ownership="corporate",
        platform="android",
    )
    code = a_pass(s, activation=Activation.SHARED, valid_days=90)
    credential = s.agent.knock(knocking(code, "KM-1")).credential
    assert credential is not None
    s.agent.knock(knocking("AAAAA-AAAAA", "KM-9"))
    world.in_person(Role.ADMINISTRATOR)
    issuer = an_issuer(s, tmp_path, lambda: world.now)
    for name in ("WL-1", "WL-2"):
        s.orders.add(
            Order(name=name, supplier="@Chandlers", lines=[OrderLine(product="Mate 3", quantity=2)])
        )
        pool = s.pools.add(Pool(name=f"Pool {name}", seats=1))
        use(s, pool.id, issuer.voucher(pool.name, 1, 30))
        s.cohorts.add(
            Cohort(
                name=f"Cohort {name}",
                filter='site eq "Dunlin"' if name == "WL-1" else "idleDays ge 3",
            )
        )
        s.sweep_rules.add(Rule(name=f"Rule {name}", idle_window_days=30, brake_percent=100))
        payload = {"kind": "setting", "setting": "screen-lock", "value": name == "WL-1"}
        s.items.add(Item.model_validate({"name": f"=Item {name}", "payload": payload}))
        horn = {"name": f"@Horn {name}", "key": name.lower(), "says": "=1", "sends": "org.horn"}
        known = {"platforms": {"android": "9"}, "type": "switch"}
        s.own_settings.add(OwnSetting.model_validate({**horn, **known}))
        s.kits.add(Kit(name=f"Kit {name}", items=(f"=Item {name}",), given=(Given(),)))
        path = manifest(tmp_path, [f"a map of {name}"], f"=map of {name}.txt")
        s.files.put(path)
        s.setup_sheets.add(SetupSheet(name=f"Sheet {name}", note="@home"))
        s.checklists.add(Checklist(name=f"List {name}", items=(f"=Item {name}",)))
        s.terms.add(Terms(name=f"Terms {name}", texts=(TermsText(language="en", text="Be kind"),)))
        world.rows(
            "INSERT INTO acceptances (at, terms_name, revision, language, person_id)"
            " SELECT now(), 'Terms WL-1', 1, 'en', min(id) FROM people"
        )
    kit = s.agent.kit(credential)
    assert kit is not None
    told = [
        AgentReport(item=one.id, revision=one.revision, state=ItemState.DONE) for one in kit.items
    ]
    s.agent.report(credential, *told)
    hold(s, 2, until=date(2026, 12, 1))
    hold(s, until=date(2026, 12, 1), person="maud")
    world.rows(
        "INSERT INTO mails (at, to_address, subject, kind, next_try_at, last_error) VALUES"
        " (now(), 'maud@wrenmoor.example', '=1+1', 'test', now(), 'The server is away')"
    )
    for name in ("Mine", "@Ours"):
        s.views.save(ViewNew(name=name, shared=True, settings=ViewSettings()))
    yard = manifest(tmp_path, ["serial,site", "KM-1,Tarn", "=1+1,", "YY-77777,"], "yard.csv")
    for name in ("Yard", "@Office"):
        s.sources.add(Source(name=name, kind=SourceKind.ROSTER))
        s.sources.take_file(name, yard, s.sources.preview_file(name, yard).digest)
    world.rows(
        "INSERT INTO source_secrets (source_id, kind, sealed, ends_at, made_at, made_by) SELECT id,"
        " 'token', '', now(), now(), 'maud' FROM sources"
    )
    rule = next(iter(s.sweep_rules.list())).id
    world.later(days=40)
    s.sweeps.apply(rule, s.sweeps.preview(rule).digest)
    for serial in ("KM-SOLD", "KM-SCRAPPED"):
        s.agent.knock(knocking(code, serial))
        sold = Selection(identifiers=[serial])
        s.devices.retire(sold, s.devices.preview_retire(sold).digest)
        s.devices.erase(sold, s.devices.preview_erase(sold).digest, 1)
    for content in (b"serial\nJOB-1\n", "serial\nمهمة\n".encode()):
        asked = {"Prefer": "respond-async"}
        s._transport.http.post("/lots", content=content, headers=asked).raise_for_status()


def test_every_list_says_the_same_in_every_form(run: Run, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    for path in LISTS:
        asked = [*path, *MORE.get(path, [])]
        said = {
            form: run(*asked, "-o", form, role=Role.ADMINISTRATOR)
            for form in ("json", "jsonl", "csv", "table")
        }
        # A pool that is short, systems that disagree and findings say so by the code.
        finding = path in (("pool", "list"), ("level", "list"), ("kit", "lint"))
        assert {one.code for one in said.values()} <= {0, int(finding)}, (path, said)
        whole = json.loads(said["json"].out)
        assert whole, path
        assert [json.loads(line) for line in said["jsonl"].out.splitlines()] == whole, path
        lines = list(csv.reader(io.StringIO(said["csv"].out)))
        assert (lines[0], len(lines) - 1) == (list(whole[0]), len(whole)), path
        assert not [cell for line in lines[1:] for cell in line if cell.startswith(("=", "@"))], (
            "no cell that a spreadsheet would run"
        )
        assert len(said["table"].out.splitlines()) >= len(whole) + 1, path
        assert "\x1b" not in said["table"].out, "a pipe gets no colours"


@pytest.mark.parametrize("width", first_of(80, 100, 140))
def test_no_word_is_broken_in_a_terminal_of_any_width(
    run: Run, world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, width: int
) -> None:
    """Lines fit, wide characters counted as two; each word of the narrow table is a whole word of
    the one that had all the room; what is not there was named.
    """
    furnish(world, tmp_path)
    for path in LISTS:
        asked = [*path, *MORE.get(path, [])]
        monkeypatch.setattr("sortitor.cli.output._PIPE_WIDTH", 2_000)
        roomy = run(*asked, role=Role.ADMINISTRATOR)
        monkeypatch.setattr("sortitor.cli.output._PIPE_WIDTH", width)
        narrow = run(*asked, role=Role.ADMINISTRATOR)
        lines = narrow.out.splitlines()
        assert [line for line in lines if cell_len(line) > width] == [], path
        known = {
            *roomy.out.split(),
            *roomy.err.split(),
            *(f"{head}:" for head in _heads(roomy.out)),
        }
        broken = {word for word in narrow.out.split() if word not in known}
        assert {word for word in broken if not set(word) <= {"─"}} == set(), (path, narrow.out)
        said = narrow.out + narrow.err
        assert [head for head in _heads(roomy.out) if head not in said] == [], (path, said)


def _heads(table: str) -> list[str]:
    return re.split(r"\s{2,}", table.splitlines()[0].strip())


def test_wide_characters_count_as_two(run: Run, world: World, tmp_path: Path) -> None:
    furnish(world, tmp_path)
    lines = run("device", "list", "--column", "site", "--column", "serial").out.splitlines()
    places = {cell_len(line[: line.index("KM-")]) for line in lines if "KM-" in line}
    assert any("北港第一埠頭" in line for line in lines)
    assert len(places) == 1, lines


def test_nothing_is_said_with_words(run: Run) -> None:
    for path in sorted(set(LISTS) - NEVER_EMPTY - set(MORE)):
        said = run(*path, role=Role.ADMINISTRATOR)
        assert (said.code, said.out) == (0, ""), path
        assert said.err.strip().endswith((".", "ID", "NAME")) or "Next:" in said.err, (
            path,
            said.err,
        )
        assert json.loads(run(*path, "-o", "json", role=Role.ADMINISTRATOR).out) == []


def _is_number(given: click.Parameter) -> bool:
    """Numbers, and what can be named by one."""
    return given.type is click.INT or str(given.name).endswith("_id")


def test_what_is_shown_is_named_by_number_or_by_name(
    run: Run, world: World, tmp_path: Path
) -> None:
    furnish(world, tmp_path)
    for path, name, hint in (
        (("lot", "show"), "LOT.CSV", None),
        (("pool", "show"), "pool wl-1", None),
        (("rule", "show"), "Rule WL-2", None),
        (("order", "show"), "wl-1", None),
        (("cohort", "show"), "Cohort WL-1", None),
        (("person", "show"), "مود", None),
        (("person", "show"), "MAUD", None),
        (("lot", "show"), "nothing", "Give its number or its whole name."),
        (("pass", "revoke"), "test", None),
        (("view", "remove"), "mine", None),
    ):
        said = run(*path, name, role=Role.COORDINATOR)
        assert (said.code in (0, 1)) == (hint is None), (path, said)
        assert hint is None or hint in said.err
    assert run("account", "edit", "viewer", "--disable", role=Role.ADMINISTRATOR).code == 0


def test_a_number_that_is_nobodys_is_refused_with_what_to_do(run: Run) -> None:
    for path, command in sorted(COMMANDS.items()):
        if not any(isinstance(one, click.Argument) and _is_number(one) for one in command.params):
            continue
        arguments: list[Any] = []
        for given in command.params:
            words = (
                next(iter(given.type.choices))
                if isinstance(given.type, click.Choice)
                else 99_999
                if _is_number(given)
                else "x"
            )
            if given.required:
                arguments += (
                    [words] if isinstance(given, click.Argument) else [given.opts[0], words]
                )
        if any(option.name == "yes" for option in command.params):
            arguments.append("--yes")
        said = run(*path, *arguments, role=Role.ADMINISTRATOR)
        # Without a mail server nothing is mailed, whatever is named.
        away = 5 if "No mail server" in said.err else 4
        assert said.code in (2, away), (path, said)
        assert "Error" in said.err, path
        assert "Traceback" not in said.err, path


def test_a_list_says_how_old_its_numbers_are(
    world: World, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Of a large fleet; in the table, since the other forms have it with each order."""
    world.client().orders.add(Order(name="WL-1", lines=(OrderLine(product="Mate 3", quantity=4),)))
    assert "ago" not in run("order", "list").err
    monkeypatch.setattr(kept_numbers, "LARGE_FLEET", -1)
    monkeypatch.setattr(kept_numbers, "SLOW_SECONDS", 0)
    monkeypatch.setattr(kept_numbers, "_FRESH", timedelta(minutes=1))
    assert "ago" not in run("order", "list").err
    world.rows("UPDATE kept_numbers SET counted_at = counted_at - interval '30 s' RETURNING 1")
    assert re.search(r"What came was counted 3\d seconds ago\.\n.*Next: ", run("order", "list").err)
    assert 30 <= json.loads(run("order", "list", "-o", "json").out)[0]["age_seconds"] < 60
