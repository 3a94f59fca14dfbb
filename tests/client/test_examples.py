"""The scripts of examples/, run as people run them; they and the README's are typed throughout."""

import csv
import io
import os
import re
import subprocess
import sys
from datetime import timedelta
from pathlib import Path

from tests.worlds import World, import_lot, import_people, manifest

from sortitor.core.vocabulary import Role

EXAMPLES = Path("examples")


def ran(world: World, script: str, *arguments: object) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, EXAMPLES / script, *map(str, arguments)],
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
        env={
            **os.environ,
            "SORTITOR_URL": world.url,
            "SORTITOR_TOKEN": world.tokens[Role.COORDINATOR],
        },
    )


def test_a_folder_is_taken_once_whatever_happens(world: World, tmp_path: Path) -> None:
    inbox = tmp_path / "inbox"
    inbox.mkdir()
    manifest(inbox, ["serial,platform", "KM-1,android", "KM-2,android"], "good.csv")
    manifest(inbox, ["serial,imei", "KM-3,", "KM-4,490154203237519"], "damaged.csv")
    first = ran(world, "nightly_import.py", inbox)
    assert first.returncode == 1, first.stderr
    assert (inbox / "done" / "good.csv").exists()
    assert (inbox / "to-mend" / "damaged rows.xlsx").exists()
    assert world.client().devices.count() == 3
    # Killed before it was moved: the same file comes again.
    (inbox / "done" / "good.csv").rename(inbox / "good.csv")
    again = ran(world, "nightly_import.py", inbox)
    assert (again.returncode, world.client().devices.count()) == (0, 3), again.stderr
    assert len(list(world.client().lots.list())) == 2


def test_a_draft_of_a_run_that_died_is_applied(world: World, tmp_path: Path) -> None:
    inbox = tmp_path / "inbox"
    inbox.mkdir()
    file = manifest(inbox, ["serial,platform", "KM-1,android"], "good.csv")
    world.client().lots.check(file, defaults={"ownership": "corporate"})
    assert ran(world, "nightly_import.py", inbox).returncode == 0
    assert world.client().devices.count() == 1


def test_idle_devices_are_told_by_site(world: World, tmp_path: Path) -> None:
    lines = ["serial,platform,site", "KM-1,android,Dunlin", "KM-2,android,Dunlin", "KM-3,ios,"]
    import_lot(world.client(), manifest(tmp_path, lines))
    world.now += timedelta(days=90)
    told = ran(world, "idle_by_site.py", 60)
    rows = list(csv.reader(io.StringIO(told.stdout)))
    assert rows[0] == ["site", "idle devices", "longest idle days"], told.stderr
    assert [row[:2] for row in rows[1:]] == [["(no site)", "1"], ["Dunlin", "2"]]


def test_a_leaver_gives_everything_back(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, "maud,Maud Fenwick,,,,")
    lines = ["serial,platform,person", "KM-1,android,maud", "KM-2,android,maud", "KM-3,ios,"]
    import_lot(s, manifest(tmp_path, lines))
    looked = ran(world, "leaver.py", "maud")
    assert (looked.returncode, s.devices.count(filter='person.userName eq "maud"')) == (0, 2)
    done = ran(world, "leaver.py", "maud", "--do")
    assert done.returncode == 0, done.stderr
    assert s.devices.count(filter='person.userName eq "maud"') == 0
    entry = int(re.findall(r"journal revert (\d+)", done.stdout)[0])
    s.journal.revert(entry, s.journal.preview_revert(entry).digest)
    assert s.devices.count(filter='person.userName eq "maud"') == 2
    assert ran(world, "leaver.py", "nobody.here").returncode == 1


def test_examples_are_typed_throughout(tmp_path: Path) -> None:
    (found,) = re.findall(r"```python\n(.*?)```", Path("README.md").read_text(), re.S)
    readme = tmp_path / "readme.py"
    readme.write_text(found)
    checked = subprocess.run(
        [
            *(sys.executable, "-m", "mypy", "--strict", "--no-incremental", readme),
            *sorted(EXAMPLES.glob("*.py")),
        ],
        capture_output=True,
        text=True,
        check=False,
        cwd=Path.cwd(),
    )
    assert checked.returncode == 0, checked.stdout
