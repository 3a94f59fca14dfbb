"""Issuers of licences: their public keys, fetched from an address when they have changed."""

from __future__ import annotations

from sortitor.core.errors import BadInput
from sortitor.core.licences.keys import keys_of
from sortitor.core.previews import plural
from sortitor.core.rosters import Told
from sortitor.core.sources import Source
from sortitor.operations.sources.ports import Asked, Looked, Secrets, SourceFault
from sortitor.sources.network import Networks
from sortitor.sources.roster_file import NOT_MODIFIED, fetched

_MOST_BYTES = 1_000_000


def read(source: Source, secrets: Secrets, asked: Asked, networks: Networks) -> Told | None:
    """The keys; None where the address says that they are the same as the last time."""
    answer = fetched(source, secrets, asked.etag, networks, _MOST_BYTES)
    if answer.status == NOT_MODIFIED:
        return None
    try:
        keys = keys_of(answer.content)
    except BadInput as error:
        raise SourceFault(error.code, error.detail, error.remedy) from error
    return Told(whole=True, etag=answer.headers.get("etag"), keys=keys)


def look(source: Source, secrets: Secrets, networks: Networks) -> Looked:
    """Whether the keys can be fetched, and which they are."""
    told = read(source, secrets, Asked(whole=True), networks)
    keys = told.keys if told and told.keys else {}
    entries = tuple({"kid": [kid], **{n: [v] for n, v in keys[kid].items()}} for kid in keys)
    return Looked((f"It answers with {plural(len(keys), 'public key')}.",), entries[:3])
