"""Registries: a supplier's list of bought devices, by the protocol of the handbook's page
“Registries” (HTTP with bearer tokens, RFC 6750; pages by cursor).
"""

from __future__ import annotations

import re
import time
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Any

import polars as pl

from sortitor.core import rosters
from sortitor.core.json_texts import json_in
from sortitor.core.rosters import Remarked, Told
from sortitor.core.source_tokens import SKEW
from sortitor.core.sources import Source
from sortitor.core.vocabulary import RegistryAct, SecretKind
from sortitor.operations.sources.ports import Asked, Done, Held, Looked, Secrets, SourceFault, Tell
from sortitor.sources.http import Answered, Line
from sortitor.sources.network import Networks

_PAGE = 2_000
#: So many lines at most, and a cursor that moves: no registry fills the memory.
_MOST_DEVICES = 10_000_000
_MOST_EMPTY_PAGES = 1_000
_MOST_CHARACTERS = 1_000
_PAGE_BYTES, _PAGE_SECONDS = 20_000_000, 60.0
#: A page that fails is asked for again so often; a registry that is busy may ask for so much
#: patience.
_TRIES, _MOST_WAITING_SECONDS, _PAUSE_SECONDS = 6, 120.0, 0.2
_GONE, _BUSY, _NOT_SIGNED_IN, _NOT_ALLOWED, _FAILS = 410, 429, 401, 403, 500
_FIELDS = {
    "key": "id",
    "serial": "serial",
    "imei": "imei",
    "imei2": "imei2",
    "maker": "maker",
    "model": "model",
    "platform": "platform",
    "order_name": "order",
}
_NO_REASON = "no reason given"
_EXTRA = ("reseller", "added_at", "sheet_digest")


class _Lapsed(Exception):
    """The cursor is good no longer."""


def read(source: Source, secrets: Secrets, asked: Asked, tell: Tell, networks: Networks) -> Told:
    """What the registry has assigned to this server: all of it, or what changed since a cursor. A
    cursor that has lapsed makes a run a whole one.
    """
    cursor = None if asked.whole else asked.cursor
    with _line(secrets, networks) as line:
        # Cursors may lapse between two pages of a whole run, too.
        for _ in range(_TRIES):
            try:
                return _read(line, source, cursor, tell)
            except _Lapsed:
                cursor = None
    raise SourceFault(
        "lapses",
        "The registry's cursors lapse again and again before its pages are read.",
        "Try again later, or ask it why.",
    )


def _read(line: Line, source: Source, cursor: str | None, tell: Tell) -> Told:
    whole = cursor is None
    pages: list[pl.DataFrame] = []
    extra: list[dict[str, Any]] = []
    gone: list[str] = []
    skew: Remarked | None = None
    total = empty = 0
    while True:
        params = {"limit": str(_PAGE), **({"cursor": cursor} if cursor else {})}
        answer = _patiently(line, "GET", _at(source, "devices"), params=params)
        skew = skew or _skew_of(answer)
        page = _page_of(answer)
        kept = []
        for device in page["devices"]:
            if device.get("removed") or not _in_scope(source, device):
                gone.append(str(device.get("id")))
            else:
                kept.append(device)
        if kept:
            pages.append(_frame(kept))
            extra += [{name: _said(device.get(name)) for name in _EXTRA} for device in kept]
        total += len(kept)
        tell("reading pages", total, 0)
        empty += not page["devices"]
        leads_on = page["next"] != cursor and empty <= _MOST_EMPTY_PAGES
        if page["more"] and (not leads_on or total + len(gone) > _MOST_DEVICES):
            raise SourceFault(
                "endless", "The registry's pages do not come to an end.", "Look at its own log."
            )
        cursor = page["next"]
        if not page["more"]:
            break
    given = pl.concat(pages) if pages else pl.DataFrame(schema=dict.fromkeys(_FIELDS, pl.String))
    devices, remarks = rosters.devices_of(given, extra)
    return Told(
        whole=whole,
        devices=devices,
        gone=pl.DataFrame({"key": gone}, schema={"key": pl.String}),
        cursor=cursor,
        # A device that changes while the pages are read comes again: nothing to be told of.
        remarks=tuple(one for one in (*remarks, skew) if one and one.code != "key_twice"),
    )


def _in_scope(source: Source, device: Mapping[str, Any]) -> bool:
    return not source.resellers or device.get("reseller") in source.resellers


def _frame(devices: Sequence[Mapping[str, Any]]) -> pl.DataFrame:
    return pl.DataFrame(
        {name: [device.get(field) for device in devices] for name, field in _FIELDS.items()},
        schema=dict.fromkeys(_FIELDS, pl.String),
        strict=False,
    )


def _said(value: Any) -> str | None:
    """What is kept of a field as it came: a text that the database holds, or nothing."""
    return value.replace("\0", " ")[:_MOST_CHARACTERS] if isinstance(value, str) else None


def _page_of(answer: Answered) -> dict[str, Any]:
    try:
        page = json_in(answer.content)
        good = isinstance(page["devices"], list) and isinstance(page["more"], bool)
        if not good or not isinstance(page["next"], str):
            raise ValueError
        if not all(isinstance(device, dict) for device in page["devices"]):
            raise ValueError
    except (ValueError, KeyError, TypeError) as error:
        raise SourceFault(
            "bad_page", "The registry's answer is no page of devices.", "Look at its own log."
        ) from error
    return dict(page)


def _skew_of(answer: Answered) -> Remarked | None:
    try:
        theirs = parsedate_to_datetime(answer.headers.get("date", ""))
    except (TypeError, ValueError):
        return None
    if theirs.tzinfo is None:
        theirs = theirs.replace(tzinfo=UTC)
    minutes = round((theirs - datetime.now(UTC)).total_seconds() / 60)
    if abs(minutes) * 60 <= SKEW.total_seconds():
        return None
    way = "before" if minutes > 0 else "behind"
    return Remarked("clock", f"minutes by which its clock is {way} ours", abs(minutes))


# ---- asking


def _line(secrets: Secrets, networks: Networks) -> Line:
    token = secrets.get(SecretKind.TOKEN)
    if token is None:
        raise SourceFault(
            "no_token",
            "There is no token of the registry yet.",
            "Make a key pair, take its certificate to the registry, and give its token here.",
        )
    return Line(networks, token.decode())


def _at(source: Source, path: str) -> str:
    return f"{(source.address or '').rstrip('/')}/v1/{path}"


def _patiently(line: Line, method: str, url: str, **asked: Any) -> Answered:
    """Ask, and again where a page fails or the registry is busy, as long as it asks for."""
    waited = 0.0
    for attempt in range(_TRIES * 10):
        fault: SourceFault | None = None
        answer = None
        try:
            answer = line.ask(
                method, url, most_bytes=_PAGE_BYTES, most_seconds=_PAGE_SECONDS, **asked
            )
        except SourceFault as error:
            fault = error
            if error.code not in ("unreachable", "no_answer"):
                raise
        if answer is not None and answer.status < _FAILS and answer.status != _BUSY:
            return _sound(answer)
        if answer is not None and answer.status == _BUSY:
            pause = _retry_after(answer)
        else:
            if attempt + 1 >= _TRIES:
                raise fault or _failing(answer)
            pause = _PAUSE_SECONDS * 2**attempt
        waited += pause
        if waited > _MOST_WAITING_SECONDS:
            raise SourceFault(
                "too_busy",
                f"The registry asks to wait for more than {_MOST_WAITING_SECONDS:g} seconds.",
                "Let the source run less often, or later.",
            )
        time.sleep(pause)
    raise SourceFault("too_busy", "The registry is busy.", "Try again later.")


def _retry_after(answer: Answered) -> float:
    """Seconds that a busy registry asks for (RFC 9110 §10.2.3)."""
    text = answer.headers.get("retry-after", "1")
    if not re.fullmatch(r"[0-9]{1,9}(\.[0-9]+)?", text):
        return 5.0
    return min(max(float(text), 0.05), _MOST_WAITING_SECONDS + 1)


def _failing(answer: Answered | None) -> SourceFault:
    status = answer.status if answer else 0
    return SourceFault(
        "page_fails",
        f"The registry fails again and again (HTTP {status}).",
        "Nothing was changed here; try again later.",
    )


def _sound(answer: Answered) -> Answered:
    if answer.status == _GONE:
        raise _Lapsed
    if answer.status == _NOT_SIGNED_IN:
        raise SourceFault(
            "token_refused",
            f"The registry refuses the token: {_words(answer)}.",
            "Renew it: take the certificate there, and give the new token here.",
        )
    if answer.status == _NOT_ALLOWED:
        raise SourceFault("not_allowed", f"The registry refuses: {_words(answer)}.", "Ask it why.")
    if not 200 <= answer.status < 300:
        raise SourceFault(
            "refused", f"The registry answers {answer.status}: {_words(answer)}.", "Ask it why."
        )
    return answer


def _words(answer: Answered) -> str:
    try:
        found = json_in(answer.content)
        return _said(found.get("detail")) or _said(found.get("code")) or _NO_REASON
    except (ValueError, AttributeError):
        return _NO_REASON


# ---- looking and acting


def look(source: Source, secrets: Secrets, networks: Networks) -> Looked:
    """Whether the registry answers and takes the token; with up to three devices."""
    with _line(secrets, networks) as line:
        answer = _patiently(line, "GET", _at(source, "devices"), params={"limit": "3"})
        page = _page_of(answer)
    skew = _skew_of(answer)
    words = ["It answers, and takes the token."]
    if skew:
        words.append(f"{skew.count} {skew.words}.")
    entries = tuple(
        {name: [str(value)] for name, value in device.items() if value not in (None, "")}
        for device in page["devices"][:3]
    )
    return Looked(tuple(words), entries)


def find(source: Source, secrets: Secrets, query: str, most: int, networks: Networks) -> list[Held]:
    """Devices that the registry holds for this customer, assigned here or not."""
    with _line(secrets, networks) as line:
        params = {"query": query, "limit": str(most)}
        answer = _patiently(line, "GET", _at(source, "find"), params=params)
    try:
        return [
            Held(
                key=str(one["id"]),
                serial=_said(one.get("serial")) or "",
                maker=_said(one.get("maker")) or "",
                model=_said(one.get("model")) or "",
                reseller=_said(one.get("reseller")) or "",
                order=_said(one.get("order")),
                imei=_said(one.get("imei")),
                added_at=_said(one.get("added_at")) or "",
                assigned_to=_said(one.get("assigned_to")),
                sheet_digest=_said(one.get("sheet_digest")),
            )
            for one in json_in(answer.content)["devices"]
        ]
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise SourceFault(
            "bad_page", "The registry's answer is no list of devices.", "Look at its own log."
        ) from error


def act(
    source: Source,
    secrets: Secrets,
    what: RegistryAct,
    keys: Sequence[str],
    more: Mapping[str, Any],
    trying: bool,
    networks: Networks,
) -> Done:
    """Let the registry do something with devices; what it has done once it does not do twice, so
    that it may be asked again.
    """
    wanted = {"act": what, "devices": list(keys), "trying": trying, **more}
    with _line(secrets, networks) as line:
        answer = _patiently(line, "POST", _at(source, "acts"), json=wanted)
    try:
        found = json_in(answer.content)
        refused = {key: _said(words) or _NO_REASON for key, words in found["refused"].items()}
        return Done(tuple(map(str, found["done"])), refused)
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise SourceFault(
            "bad_answer", "The registry's answer cannot be read.", "Look at its own log."
        ) from error
