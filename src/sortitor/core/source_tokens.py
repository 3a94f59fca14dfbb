"""What a registry's token says, once it is opened, and key files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sortitor.core.errors import BadInput, Conflict, FieldProblem
from sortitor.core.json_texts import json_in

#: A clock may be wrong by so much.
SKEW = timedelta(minutes=5)
KEY_FILE_FORMAT = "sortitor-key-file/1"
_KEY_FILE_FIELDS = {
    "format": f"“{KEY_FILE_FORMAT}”",
    "address": "where the system is",
    "token": "the secret",
    "ends_at": "until when it is good, as 2027-01-31T00:00:00Z",
}
_CLAIMS = ("iss", "aud", "jti", "iat", "exp", "token")


@dataclass(frozen=True, slots=True)
class Opened:
    """A token in clear: its secret, who gave it to which server, its number, from when until
    when.
    """

    secret: str
    issuer: str
    server: str
    number: str
    issued_at: datetime
    ends_at: datetime

    @property
    def about(self) -> dict[str, Any]:
        """What may be shown of it, and what the next one is held against."""
        return {
            "issuer": self.issuer,
            "server": self.server,
            "number": self.number,
            "issued_at": self.issued_at.isoformat(),
        }


def read_claims(text: bytes, now: datetime) -> Opened:
    """The claims of an opened token (RFC 7519 §4.1, and `token`). Raises BadInput."""
    try:
        claims = json_in(text)
        missing = [name for name in _CLAIMS if claims.get(name) in (None, "")]
        if missing:
            raise BadInput(
                "token_incomplete",
                f"The token does not say {', '.join(missing)}.",
                "Let the registry make another one.",
            )
        issued = datetime.fromtimestamp(claims["iat"], UTC)
        ends = datetime.fromtimestamp(claims["exp"], UTC)
    except (ValueError, TypeError, OverflowError, OSError, AttributeError) as error:
        raise BadInput(
            "token_unreadable",
            "What is inside the token cannot be read.",
            "Let the registry make another one.",
        ) from error
    if ends <= now:
        raise BadInput(
            "token_ended",
            f"This token ended on {ends:%Y-%m-%d}.",
            "Let the registry make a new one.",
        )
    if issued > now + SKEW:
        raise BadInput(
            "token_from_the_future",
            f"This token was made at {issued:%Y-%m-%d %H:%M} UTC, which is later than now.",
            "Compare the clocks of both systems.",
        )
    secret, issuer, server, number = (str(claims[name]) for name in ("token", "iss", "aud", "jti"))
    return Opened(secret, issuer, server, number, issued, ends)


def require_newer(opened: Opened, former: Mapping[str, Any] | None) -> None:
    """Raise Conflict for a token that was used before, that is older than the one in use, or that
    is another registry's.
    """
    if former is None or "number" not in former:
        return
    if opened.number == former["number"]:
        raise Conflict(
            "token_again", "This is the token that is in use already.", "Nothing has to be done."
        )
    if (opened.issuer, opened.server) != (former.get("issuer"), former.get("server")):
        raise Conflict(
            "token_of_another",
            f"This token is of {opened.issuer} for {opened.server}; this source is of"
            f" {former.get('issuer')} for {former.get('server')}.",
            "Renew the token of the same server there, or add another source.",
        )
    if opened.issued_at.isoformat() < str(former.get("issued_at", "")):
        raise Conflict(
            "token_old",
            "This token is older than the one in use.",
            "Take the one that was made last.",
        )


@dataclass(frozen=True, slots=True)
class KeyFile:
    """A key file: where, with which secret, until when."""

    address: str
    token: str
    ends_at: datetime


def read_key_file(text: str) -> KeyFile:
    """A key file as JSON, checked field by field. Raises BadInput naming each that is missing or
    wrong.
    """
    try:
        found = json_in(text)
    except ValueError as error:
        raise BadInput(
            "no_json", f"This is no JSON: {error}.", "Take the file as it was given out."
        ) from error
    if not isinstance(found, dict):
        raise BadInput("no_key_file", "This is no key file.", "It is a JSON object.")
    problems = [
        FieldProblem(f"/{name}", "missing", f"“{name}” is missing: {meaning}.")
        for name, meaning in _KEY_FILE_FIELDS.items()
        if not isinstance(found.get(name), str) or not found[name].strip()
    ]
    if not problems and found["format"] != KEY_FILE_FORMAT:
        words = f"The format is {found['format']!r}; “{KEY_FILE_FORMAT}” is read."
        problems.append(FieldProblem("/format", "format", words))
    ends_at = None
    if not problems:
        try:
            ends_at = datetime.fromisoformat(found["ends_at"])
        except ValueError:
            words = f"{found['ends_at']!r} is no moment; it looks like 2027-01-31T00:00:00Z."
            problems.append(FieldProblem("/ends_at", "moment", words))
    if problems or ends_at is None:
        raise BadInput(
            "bad_key_file", problems[0].detail, "Ask for the file again.", tuple(problems)
        )
    aware = ends_at if ends_at.tzinfo else ends_at.replace(tzinfo=UTC)
    return KeyFile(found["address"].strip(), found["token"].strip(), aware.astimezone(UTC))
