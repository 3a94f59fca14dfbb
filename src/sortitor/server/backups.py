"""Backups of everything, taken while the service runs, and bringing one back.

A backup is a ZIP archive (without compression of its own) of `manifest.json`, `database.dump`
(pg_dump's custom format) and, where it is encrypted, the keys of the installation and of its
sources' credentials. Encrypted it is an age file (age-encryption.org/v1) around that archive.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import threading
import zipfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any
from urllib.parse import unquote, urlsplit, urlunsplit

import psycopg
import pyrage
from psycopg import sql

from sortitor import __version__
from sortitor.core.errors import SortitorError, Unavailable
from sortitor.core.vocabulary import Role
from sortitor.operations import seals
from sortitor.operations.context import Actor, Clock, Context, Limits
from sortitor.server.postgres import Cluster, binaries
from sortitor.store import roles, schema
from sortitor.store.engine import single_engine, transaction

FORMAT = 1
SUFFIX = ".sortitor"
_PIECE = 1 << 20
_AGE = b"age-encryption.org/"
Tell = Callable[[str], None]
#: Name in the archive → the file of a key.
Keys = Mapping[str, Path]


def _silent(text: str) -> None:
    """Nobody follows."""


# ---- out


def write_backup(
    url: str, file: Path, keys: Keys, recipient: str = "", tell: Tell = _silent
) -> dict[str, Any]:
    """Write a backup of one moment while others go on writing; gives its manifest. A file that
    bears the name is whole.
    """
    recipients = [_recipient(recipient)] if recipient else []
    file.parent.mkdir(parents=True, exist_ok=True)
    part = file.with_name(file.name + ".part")
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        with os.fdopen(handle, "wb") as out, _encrypting(out, recipients) as target:
            manifest = _write(url, target, keys if recipients else {}, tell)
        with part.open("rb") as written:
            os.fsync(written.fileno())
        part.rename(file)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    return manifest


def _recipient(text: str) -> Any:
    try:
        return pyrage.x25519.Recipient.from_str(text.strip())
    except pyrage.RecipientError as error:
        raise SortitorError(
            "bad_recipient",
            f"{text!r} is no age recipient.",
            "It begins with age1; `sortitor backup-key` makes one.",
        ) from error


@contextmanager
def _encrypting(out: IO[bytes], recipients: list[Any]) -> Iterator[IO[bytes]]:
    """What is written goes out encrypted for the recipients, piece by piece; as it is for none."""
    if not recipients:
        yield out
        return
    reading, writing = os.pipe()
    failed: list[BaseException] = []

    def encrypt() -> None:
        try:
            with os.fdopen(reading, "rb") as source:
                pyrage.encrypt_io(source, out, recipients)
        except BaseException as error:  # noqa: BLE001 - raised again where the backup is written
            failed.append(error)

    thread = threading.Thread(target=encrypt)
    thread.start()
    try:
        with os.fdopen(writing, "wb") as target:
            yield target
    finally:
        thread.join()
    if failed:
        raise failed[0]


def _write(url: str, out: IO[bytes], keys: Keys, tell: Tell) -> dict[str, Any]:
    with (
        psycopg.connect(url, connect_timeout=10) as connection,
        zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive,
    ):
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        row = connection.execute("SELECT pg_export_snapshot()").fetchone()
        assert row is not None
        tell("copying the database")
        _dump(url, str(row[0]), archive)
        tell("counting what was copied")
        manifest = _manifest(connection, with_key=bool(keys))
        archive.writestr("manifest.json", json.dumps(manifest, indent=1, default=str))
        for name, key_file in keys.items():
            if key_file.exists():
                archive.writestr(name, key_file.read_bytes())
    return manifest


def _dump(url: str, snapshot: str, archive: zipfile.ZipFile) -> None:
    bare, environment = _for_programs(url)
    command = [
        str(binaries() / "pg_dump"),
        *("--format=custom", "--compress=1", "--no-owner", "--no-acl"),
        *("--snapshot", snapshot, "--dbname", bare),
    ]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=environment, cwd="/"
    ) as program:
        assert program.stdout is not None
        assert program.stderr is not None
        with archive.open("database.dump", "w", force_zip64=True) as member:
            shutil.copyfileobj(program.stdout, member, _PIECE)
        said = program.stderr.read().decode(errors="replace").strip()
    if program.returncode:
        raise Unavailable("backup_failed", f"pg_dump failed: {said[-500:]}", "See the log.")


def _for_programs(url: str) -> tuple[str, dict[str, str]]:
    """The URL without its password, which goes through the environment: command lines are seen by
    everybody on the machine.
    """
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    bare = urlunsplit(parts._replace(netloc=f"{parts.username or ''}@{host}"))
    return bare, {**os.environ, "PGPASSWORD": unquote(parts.password or "")}


def _manifest(connection: psycopg.Connection[Any], with_key: bool) -> dict[str, Any]:
    revision = connection.execute("SELECT version_num FROM alembic_version").fetchone()
    end = connection.execute(
        "SELECT place, entry_id, encode(digest, 'hex') FROM journal_seals ORDER BY place DESC LIMIT"
        " 1"
        if _has_seals(connection)
        else "SELECT 0, NULL, NULL"
    ).fetchone()
    return {
        "format": FORMAT,
        "version": __version__,
        "schema": revision[0] if revision else None,
        "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "counts": _counts(connection),
        "journal": dict(zip(("place", "entry_id", "digest"), end or (0, None, None), strict=True)),
        "with_key": with_key,
    }


def _has_seals(connection: psycopg.Connection[Any]) -> bool:
    row = connection.execute("SELECT to_regclass('journal_seals') IS NOT NULL").fetchone()
    return bool(row and row[0])


def _counts(connection: psycopg.Connection[Any]) -> dict[str, int]:
    """Rows by table, without the queue's."""
    tables = connection.execute(
        "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace"
        " AND relname NOT LIKE 'procrastinate%%' ORDER BY 1"
    ).fetchall()
    counts = {}
    for (table,) in tables:
        query = sql.SQL("SELECT count(*) FROM {}").format(sql.Identifier(table))
        row = connection.execute(query).fetchone()
        assert row is not None
        counts[str(table)] = int(row[0])
    return counts


def prune(folder: Path, keep: int) -> list[Path]:
    """Remove the oldest scheduled backups beyond so many; gives what went."""
    found = sorted(folder.glob(f"scheduled-*{SUFFIX}"))
    gone = found[: max(0, len(found) - keep)]
    for file in gone:
        file.unlink(missing_ok=True)
    return gone


# ---- in


@dataclass(frozen=True, slots=True)
class Restored:
    """What was brought back and verified."""

    manifest: dict[str, Any]
    sealed: int


def restore_embedded(
    file: Path, state_dir: Path, keys: Keys, identity: Path | None, tell: Tell = _silent
) -> Restored:
    """Bring a backup back into a state directory without a database. The database gets its name
    only once all is verified: until then there is none. Raises SortitorError.
    """
    cluster = Cluster(state_dir)
    url = cluster.start("postgres")
    try:
        if not cluster.owner:
            raise _occupied(f"A service uses {state_dir}.")
        server = url.rpartition("/")[0]
        with psycopg.connect(url, autocommit=True) as connection:
            _clear_remains(connection)
            if _exists(connection, "sortitor"):
                raise _occupied(f"There is a database in {state_dir} already.")
            connection.execute(f"CREATE DATABASE {_UNFINISHED}")
        with _opened(file, identity, state_dir) as archive:
            found = _bring_back(archive, f"{server}/{_UNFINISHED}", tell)
            _take_keys(archive, keys)
        with single_engine(f"{server}/{_UNFINISHED}") as engine, transaction(engine) as owner:
            roles.grant(owner, roles.APPLICATION, cluster.application_password())
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute(f"ALTER DATABASE {_UNFINISHED} RENAME TO sortitor")
    except BaseException:
        with suppress(psycopg.Error), psycopg.connect(url, autocommit=True) as connection:
            _clear_remains(connection)
        raise
    finally:
        cluster.stop()
    return found


_UNFINISHED = "sortitor_unfinished"


def _clear_remains(connection: psycopg.Connection[Any]) -> None:
    connection.execute(f"DROP DATABASE IF EXISTS {_UNFINISHED} WITH (FORCE)")


def _exists(connection: psycopg.Connection[Any], name: str) -> bool:
    query = "SELECT FROM pg_database WHERE datname = %s"
    return connection.execute(query, [name]).fetchone() is not None


def _occupied(detail: str) -> SortitorError:
    return SortitorError(
        "not_empty",
        f"{detail} A backup is brought back into an empty place only.",
        "Choose another SORTITOR_STATE_DIR, or move the present one away.",
    )


def restore_outside(
    file: Path, url: str, keys: Keys, identity: Path | None, tell: Tell = _silent
) -> Restored:
    """Bring a backup back into an empty database elsewhere, in one transaction. Raises
    SortitorError.
    """
    with psycopg.connect(url, connect_timeout=10) as connection:
        row = connection.execute(
            "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace"
        ).fetchone()
        if row and row[0]:
            raise SortitorError(
                "not_empty",
                "The database has tables already. A backup is brought back into an empty one only.",
                "Make a new database, and name it in SORTITOR_DATABASE_URL.",
            )
    with _opened(file, identity, next(iter(keys.values())).parent) as archive:
        found = _bring_back(archive, url, tell, at_once=True)
        _take_keys(archive, keys)
    return found


@contextmanager
def _opened(file: Path, identity: Path | None, folder: Path) -> Iterator[zipfile.ZipFile]:
    """The archive of a backup; one that is encrypted is opened beside the database for as long as
    it takes.
    """
    clear, temporary = file, None
    with file.open("rb") as source:
        encrypted = source.read(len(_AGE)) == _AGE
    if encrypted:
        temporary = clear = folder / f".restoring-{os.getpid()}"
        _decrypt(file, identity, temporary)
    try:
        with zipfile.ZipFile(clear) as archive:
            yield archive
    except (zipfile.BadZipFile, KeyError, json.JSONDecodeError) as error:
        raise SortitorError(
            "bad_backup",
            f"{file} is no backup of Sortitor, or is damaged: {error}.",
            "Take another backup.",
        ) from error
    finally:
        if temporary is not None:
            temporary.unlink(missing_ok=True)


def _decrypt(file: Path, identity: Path | None, target: Path) -> None:
    if identity is None:
        raise SortitorError(
            "identity_needed",
            f"{file} is encrypted.",
            "Name the file with the identity (AGE-SECRET-KEY-…) by --identity.",
        )
    lines = identity.read_text().splitlines()
    secret = next((line for line in lines if line.startswith("AGE-SECRET-KEY-")), "")
    try:
        key = pyrage.x25519.Identity.from_str(secret)
        handle = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with file.open("rb") as source, os.fdopen(handle, "wb") as out:
            pyrage.decrypt_io(source, out, [key])
    except (pyrage.IdentityError, pyrage.DecryptError, OSError) as error:
        raise SortitorError(
            "wrong_identity",
            f"{file} cannot be opened with this identity: {error}.",
            "Take the identity whose recipient the backup was made for.",
        ) from error


def _bring_back(archive: zipfile.ZipFile, url: str, tell: Tell, at_once: bool = False) -> Restored:
    manifest = json.loads(archive.read("manifest.json"))
    if manifest.get("format") != FORMAT or str(manifest["schema"]) > schema.head():
        raise SortitorError(
            "newer_backup",
            f"The backup was made by Sortitor {manifest.get('version')} (schema"
            f" {manifest.get('schema')}), which is newer than this one.",
            "Install that version to bring it back.",
        )
    tell(f"bringing back what was backed up on {manifest['made_at']}")
    _pg_restore(archive, url, at_once)
    tell("verifying it")
    sealed = _verified(url, manifest)
    return Restored(manifest, sealed)


def _pg_restore(archive: zipfile.ZipFile, url: str, at_once: bool) -> None:
    bare, environment = _for_programs(url)
    command = [
        str(binaries() / "pg_restore"),
        *("--exit-on-error", "--no-owner", "--no-acl", "--dbname", bare),
    ]
    if at_once:
        command.append("--single-transaction")
    with subprocess.Popen(
        command, stdin=subprocess.PIPE, stderr=subprocess.PIPE, env=environment, cwd="/"
    ) as program:
        assert program.stdin is not None
        assert program.stderr is not None
        with suppress(BrokenPipeError), archive.open("database.dump") as member, program.stdin:
            shutil.copyfileobj(member, program.stdin, _PIECE)
        said = program.stderr.read().decode(errors="replace").strip()
    if program.returncode:
        raise SortitorError(
            "restore_failed", f"pg_restore failed: {said[-500:]}", "Nothing was brought back."
        )


def _verified(url: str, manifest: dict[str, Any]) -> int:
    """How many sealed entries are right. Raises SortitorError where a count or an entry is not what
    was backed up.
    """
    with psycopg.connect(url) as connection:
        counts = _counts(connection)
    wrong = [name for name, count in manifest["counts"].items() if counts.get(name) != count]
    if wrong:
        raise _not_verified(
            f"{wrong[0]} has {counts.get(wrong[0], 0):,} rows instead of"
            f" {manifest['counts'][wrong[0]]:,}."
        )
    if "journal_seals" not in counts:
        return 0
    with single_engine(url) as engine:
        ctx = Context(engine, _clock(), Limits(), Actor("recovery", Role.ADMINISTRATOR))
        place = 0
        while True:
            part = seals.verify(ctx, place)
            if part.why:
                raise _not_verified(f"Entry {part.broken_entry} of the journal is broken.")
            place = part.place
            if part.over:
                break
        if place != (manifest["journal"]["place"] or 0):
            raise _not_verified("The journal ends elsewhere than it did.")
        with ctx.changing() as owner:
            # Numbers of transactions begin anew here.
            seals.look_at_all(owner)
            ctx.record(
                owner,
                "system.restore",
                "installation",
                f"Brought back from the backup of {manifest['made_at']}",
                after={"counts": manifest["counts"]},
            )
    return place


def _not_verified(detail: str) -> SortitorError:
    return SortitorError(
        "not_verified",
        f"What was brought back is not what was backed up. {detail}",
        "Take another backup.",
    )


def _take_keys(archive: zipfile.ZipFile, keys: Keys) -> None:
    """The keys come back too, where the backup holds them and none is there."""
    for name in keys.keys() & set(archive.namelist()):
        key_file = keys[name]
        if key_file.exists():
            continue
        key_file.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(key_file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as out:
            out.write(archive.read(name))


def _clock() -> Clock:
    def now() -> datetime:
        return datetime.now(UTC)

    return Clock(now, now)
