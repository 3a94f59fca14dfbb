"""The command line, run in this process as a shell would run it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest
from tests.worlds import World

from sortitor.cli import main as cli
from sortitor.core.vocabulary import Role


@dataclass(frozen=True)
class Said:
    """What a command answered."""

    code: int
    out: str
    err: str


Run = Callable[..., Said]


@pytest.fixture
def run(
    world: World,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
    tmp_path: Path,
) -> Run:
    """`run("lot", "list", role=Role.VIEWER)`; the default role is coordinator."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("SORTITOR_URL", world.url)

    def command(*arguments: object, role: Role | None = Role.COORDINATOR) -> Said:
        if role:
            monkeypatch.setenv("SORTITOR_TOKEN", world.tokens[role])
        else:
            monkeypatch.delenv("SORTITOR_TOKEN", raising=False)
        monkeypatch.setattr("sys.argv", ["sortitor", *map(str, arguments)])
        capsys.readouterr()
        with pytest.raises(SystemExit) as left:
            cli.main()
        out, err = capsys.readouterr()
        code = left.value.code
        return Said(code if isinstance(code, int) else 0, out, err)

    return command
