"""Roster files at an address: fetched when they have changed (ETag, RFC 9110 §8.8.3), read by a
process of its own as every stranger's file is.
"""

from __future__ import annotations

from dataclasses import replace

from sortitor.core.manifests import Reading
from sortitor.core.roster_files import roster_of
from sortitor.core.rosters import Told
from sortitor.core.sources import Source
from sortitor.core.vocabulary import SecretKind
from sortitor.operations.file_readers import FileLimits
from sortitor.operations.files import read_file
from sortitor.operations.sources.ports import Asked, Looked, Secrets, SourceFault, Tell
from sortitor.sources.http import Answered, Line
from sortitor.sources.network import Networks

_SECONDS = 300.0
NOT_MODIFIED, _NOT_SIGNED_IN = 304, (401, 403)
_REDIRECTS = range(301, 309)


def read(
    source: Source,
    secrets: Secrets,
    asked: Asked,
    tell: Tell,
    networks: Networks,
    most_bytes: int,
    limits: FileLimits,
) -> Told | None:
    """The roster; None where the address says that it is the same as the last time."""
    answer = fetched(source, secrets, asked.etag, networks, most_bytes)
    if answer.status == NOT_MODIFIED:
        return None
    tell("reading the file", 0, 0)
    manifest = read_file(answer.content, "table", Reading(), limits)
    return replace(roster_of(manifest, source), etag=answer.headers.get("etag"))


def look(
    source: Source, secrets: Secrets, networks: Networks, most_bytes: int, limits: FileLimits
) -> Looked:
    """Whether the file can be fetched and read; with up to three of its lines."""
    answer = fetched(source, secrets, None, networks, most_bytes)
    manifest = read_file(answer.content, "table", Reading(), limits)
    told = roster_of(manifest, source)
    assert told.devices is not None
    rows = manifest.cells.head(3).rows(named=True)
    entries = tuple({name: [value] for name, value in row.items() if value} for row in rows)
    words = [f"It answers with a file of {told.devices.height:,} devices."]
    words += [f"{remark.count:,} {remark.words}." for remark in told.remarks]
    return Looked(tuple(words), entries)


def fetched(
    source: Source, secrets: Secrets, etag: str | None, networks: Networks, most_bytes: int
) -> Answered:
    """What the address answers: a file, or that it is the same as the one with this ETag."""
    token = secrets.get(SecretKind.TOKEN)
    headers = {"if-none-match": etag} if etag else {}
    with Line(networks, token.decode() if token else None) as line:
        answer = line.ask(
            "GET",
            source.address or "",
            most_bytes=most_bytes,
            most_seconds=_SECONDS,
            headers=headers,
        )
    if answer.status == NOT_MODIFIED and etag:
        return answer
    if answer.status in _NOT_SIGNED_IN:
        raise SourceFault(
            "token_refused",
            f"The address asks for a credential, or refuses this one (HTTP {answer.status}).",
            "Give the source its token.",
        )
    if answer.status in _REDIRECTS:
        raise SourceFault(
            "moved",
            f"The address leads elsewhere: {answer.headers.get('location', 'no place')[:300]}.",
            "If that is right, make it the source's address.",
        )
    if answer.status != 200:
        raise SourceFault(
            "refused", f"The address answers with HTTP {answer.status}.", "Correct the address."
        )
    return answer
