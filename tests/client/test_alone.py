"""The client library and the command line need nothing that belongs to the service."""

import subprocess
import sys

ALONE = """
import sys

SERVICE = {
    "alembic", "babel", "cryptography", "fastapi", "joserfc", "ldap3", "limits", "nh3", "PIL",
    "polars", "procrastinate", "psycopg", "rfc8785", "segno", "sqlalchemy", "starlette",
    "structlog", "uvicorn", "xlsxwriter",
}


class NotInstalled:
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in SERVICE:
            raise ModuleNotFoundError(name)


sys.meta_path.insert(0, NotInstalled())

import click

import sortitor.client
from sortitor.cli import main

ctx = click.Context(main.root)
for name, (module, _, _) in main._COMMANDS.items():
    if not module.startswith("sortitor.server"):
        assert main.root.get_command(ctx, name) is not None
"""


def test_they_are_there_without_the_packages_of_the_service() -> None:
    done = subprocess.run(
        [sys.executable, "-c", ALONE], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
