"""The wheel: whole or not at all, with what it says of itself."""

import re
import shutil
import subprocess
import sys
import zipfile
from email.parser import Parser
from pathlib import Path

import pytest

from sortitor import __version__

ROOT = Path.cwd()
LEFT_OUT = shutil.ignore_patterns(
    ".git", ".venv", "node_modules", ".stamps", ".hypothesis", ".mypy_cache", "__pycache__"
)


@pytest.fixture(scope="module")
def tree(tmp_path_factory: pytest.TempPathFactory) -> Path:
    copy = tmp_path_factory.mktemp("tree") / "sortitor"
    shutil.copytree(ROOT, copy, ignore=LEFT_OUT, symlinks=True)
    return copy


def built(tree: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [
            *(sys.executable, "-m", "pip", "wheel", "--no-deps", "--no-build-isolation"),
            *("--wheel-dir", "dist", "."),
        ],
        cwd=tree,
        capture_output=True,
        text=True,
        check=False,
    )


def test_a_wheel_is_whole(tree: Path) -> None:
    made = built(tree)
    assert made.returncode == 0, made.stdout + made.stderr
    (wheel,) = (tree / "dist").glob("*.whl")
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        about = next(name for name in names if name.endswith(".dist-info/METADATA"))
        told = Parser().parsestr(archive.read(about).decode())
        licences = archive.read("sortitor/api/static/licences.md").decode()
    for needed in (
        "sortitor/py.typed",
        "sortitor/client/aio/transport.py",
        "sortitor/api/static/index.html",
        "sortitor/api/static/licence-inter.txt",
        "sortitor/api/handbook/index.html",
    ):
        assert needed in names
    assert not [name for name in names if name.startswith(("tests/", "tools/"))]
    assert told["Version"] == __version__ == "0.2.0"
    assert told.get_all("Provides-Extra") == ["server"]
    assert "Typing :: Typed" in told.get_all("Classifier", [])
    assert told.get_all("Project-URL")
    for bundled in ("vue", "vuetify", "chart.js"):
        assert re.search(rf"^#+ .*{re.escape(bundled)}", licences, re.M), bundled


def test_without_the_console_there_is_no_wheel(tree: Path) -> None:
    page = tree / "src/sortitor/api/static/index.html"
    away = page.rename(tree / "index.html")
    made = built(tree)
    away.rename(page)
    assert made.returncode != 0
    assert "make console" in made.stdout + made.stderr


def test_the_changelog_has_this_version_and_the_usual_sections() -> None:
    text = Path("CHANGELOG.md").read_text()
    assert re.search(rf"^## {re.escape(__version__)} – \d{{4}}-\d\d-\d\d$", text, re.M)
    sections = set(re.findall(r"^### (\w+)$", text, re.M))
    assert sections <= {"Added", "Changed", "Deprecated", "Removed", "Fixed", "Security"}
    assert {"Added", "Changed", "Fixed"} <= sections
