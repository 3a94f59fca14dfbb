"""Started as root, the service goes on as a user of its own."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import sys
from pathlib import Path

import click

from sortitor.server.postgres import Cluster
from sortitor.server.settings import Settings


def leave_root(settings: Settings) -> None:
    """Become the user of the settings; says so, and why where it cannot."""
    if os.geteuid() != 0:
        return
    if not settings.run_as:
        click.echo("The service runs as root, as SORTITOR_RUN_AS asks for.", err=True)
        return
    user = _user(settings.run_as, settings.state_dir)
    if user is None or not _can_run(user):
        click.echo(
            f"The service runs as root: the user {settings.run_as} cannot be made, or cannot read"
            f" the program in {sys.prefix}. Start it as an ordinary user, or install it where all"
            " can read it.",
            err=True,
        )
        return
    settings.state_dir.mkdir(parents=True, exist_ok=True)
    cluster = settings.state_dir / "cluster"
    if cluster.exists() and cluster.stat().st_uid != user.pw_uid:
        # A database that outlived its service runs as another user still.
        Cluster(settings.state_dir).halt()
    _hand_over(settings.state_dir, user)
    os.initgroups(user.pw_name, user.pw_gid)
    os.setgid(user.pw_gid)
    os.setuid(user.pw_uid)
    os.environ |= {"HOME": str(settings.state_dir), "USER": user.pw_name}
    click.echo(f"Started as root: goes on as the user {user.pw_name}.", err=True)


def _user(name: str, home: Path) -> pwd.struct_passwd | None:
    try:
        return pwd.getpwnam(name)
    except KeyError:
        maker = shutil.which("useradd")
        if maker is None:
            return None
        subprocess.run(
            [maker, "--system", "--home-dir", str(home), "--shell", "/usr/sbin/nologin", name],
            capture_output=True,
            check=False,
        )
    try:
        return pwd.getpwnam(name)
    except KeyError:
        return None


def _can_run(user: pwd.struct_passwd) -> bool:
    try:
        done = _tried(user)
    except OSError:
        return False
    return done.returncode == 0


def _tried(user: pwd.struct_passwd) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(
        [sys.executable, "-c", "import sortitor.server.commands, psycopg, polars"],
        user=user.pw_uid,
        group=user.pw_gid,
        extra_groups=[],
        cwd="/",
        env={"PATH": os.environ.get("PATH", ""), "HOME": "/"},
        capture_output=True,
        check=False,
    )


def _hand_over(folder: Path, user: pwd.struct_passwd) -> None:
    os.chown(folder, user.pw_uid, user.pw_gid)
    for place, folders, files in os.walk(folder):
        for name in (*folders, *files):
            os.chown(Path(place) / name, user.pw_uid, user.pw_gid, follow_symlinks=False)
