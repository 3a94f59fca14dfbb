"""Who is who by the directory's own password: at the door, and for accounts."""

from __future__ import annotations

from secrets import token_urlsafe

from sortitor.core.errors import Conflict, SourceFault
from sortitor.core.sources import Source
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sources.secrets import secrets_of
from sortitor.store import source_people
from sortitor.store.engine import Connection


def directories(connection: Connection) -> list[Kept[Source]]:
    """The directories whose people sign in with their password."""
    return [kept for kept in SOURCES.shelf.every(connection) if kept.document.signs_in_by]


def require_directory(connection: Connection) -> None:
    """Raise Conflict where nobody could sign in with a directory's password."""
    if not directories(connection):
        raise Conflict(
            "no_directory",
            "No directory lets its people sign in with their password.",
            "Say of the source by what they do, or choose another proof.",
        )


def person_by(ctx: Context, login: str, password: str) -> int | None:
    """The person whose login and password some directory knows. Raises SourceFault where one
    cannot be asked and no other knows them, Conflict for somebody who is not known here yet.
    """
    with ctx.reading() as connection:
        asked = directories(connection)
        secrets = {kept.id: secrets_of(ctx, connection, kept.id) for kept in asked}
    silent: SourceFault | None = None
    for kept in asked:
        try:
            key = ctx.outside.proves(kept.document, secrets[kept.id], login, password)
        except SourceFault as fault:
            silent = fault
            continue
        if key is not None:
            return _person(ctx, kept.id, key)
    if silent is not None:
        raise _silent() from silent
    return None


def _person(ctx: Context, source_id: int, key: str) -> int:
    with ctx.reading() as connection:
        found = source_people.person_of(connection, source_id, key)
    if found is None:
        raise Conflict(
            "not_here_yet",
            "The directory knows you, and this service does not yet.",
            "Let a coordinator run the directory as a source.",
        )
    return found


def lets_in(ctx: Context, source_id: int, login: str | None, password: str) -> bool:
    """Whether a directory knows a login by that password; None: nobody, to take as long."""
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, source_id)
        secrets = secrets_of(ctx, connection, source_id)
    try:
        # A password that is meant for another place goes nowhere.
        given = password if login is not None else token_urlsafe()
        key = ctx.outside.proves(kept.document, secrets, login or token_urlsafe(), given)
    except SourceFault as fault:
        raise _silent() from fault
    return key is not None and login is not None


def _silent() -> SourceFault:
    """Strangers are not told where the directory is."""
    return SourceFault(
        "directory_silent", "The directory does not answer, so nobody can sign in by it.", "Later."
    )
