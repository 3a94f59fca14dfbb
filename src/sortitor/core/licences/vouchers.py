"""Vouchers: what an issuer signs for, found in whatever text it came in.

A voucher is a compact JWS (RFC 7515) by EdDSA (RFC 8037). Its payload says who made it (`iss`), its
number (`jti`), when (`iat`, and perhaps `nbf` and `exp`, RFC 7519), and for what: `product`,
`seats`, `days`, and whether it is a `trial`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email import message_from_bytes, policy
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from sortitor.core.documents import Name
from sortitor.core.errors import BadInput
from sortitor.core.licences.pools import MOST_SEATS

#: For so many days a voucher that was used can be taken back.
REVERT_DAYS = 30
#: A clock of an issuer may be so much ahead.
_AHEAD_SECONDS = 300
_MOST_CHARACTERS = 8_192
#: Three parts in base64url, the first of which begins an object: `{"`.
_TOKEN = re.compile(r"(?<![\w.-])eyJ[\w-]{10,}\.[\w-]{10,}\.[\w-]{40,}(?![\w.-])", re.ASCII)
_LATEST = 4_102_444_800


class Claims(BaseModel):
    """What the payload of a voucher says."""

    model_config = ConfigDict(frozen=True, strict=True, extra="ignore")

    iss: Name
    jti: Name
    iat: int = Field(ge=0, le=_LATEST)
    nbf: int | None = Field(default=None, ge=0, le=_LATEST)
    exp: int | None = Field(default=None, ge=0, le=_LATEST)
    product: Name
    seats: int = Field(ge=1, le=MOST_SEATS)
    days: int = Field(ge=1, le=36_500)
    trial: bool = False


@dataclass(frozen=True, slots=True)
class Voucher:
    """A voucher whose signature was found to be its issuer's. `source`: the issuer as it is called
    here.
    """

    claims: Claims
    token: str
    source_id: int
    source: str

    @property
    def made_at(self) -> datetime:
        """When it was made."""
        return datetime.fromtimestamp(self.claims.iat, UTC)

    @property
    def words(self) -> str:
        """What it is, in a sentence."""
        claims = self.claims
        seats = f"{claims.seats:,} {'seat' if claims.seats == 1 else 'seats'}"
        days = f"{claims.days:,} {'day' if claims.days == 1 else 'days'}"
        what = "Trial voucher" if claims.trial else "Voucher"
        return (
            f"{what} {claims.jti} of {self.source}: {seats} of “{claims.product}” for {days},"
            f" made on {self.made_at:%F}."
        )


def find_token(text: str) -> str:
    """The voucher in a text, a file or a mail (RFC 5322). Raises BadInput where there is none, or
    more than one.
    """
    found: set[str] = set(_TOKEN.findall(text)) or set(_TOKEN.findall(_of_mail(text)))
    if not found:
        joined = "".join(text.split())
        found = set(_TOKEN.findall(joined)) if len(joined) <= _MOST_CHARACTERS else set()
    if not found:
        raise BadInput(
            "no_voucher",
            "There is no voucher in this text.",
            "Paste the whole voucher: it begins with “eyJ” and has two dots in it.",
        )
    if len(found) > 1:
        raise BadInput(
            "several_vouchers",
            f"There are {len(found)} vouchers in this text.",
            "Use them one after the other.",
        )
    token = found.pop()
    if len(token) > _MOST_CHARACTERS:
        raise BadInput("voucher_too_long", "No voucher is so long.", "Ask for a new one.")
    return token


def _of_mail(text: str) -> str:
    """The text parts of a mail, decoded; lines that the mail broke put together again."""
    if not re.match(r"[A-Za-z][\w-]*:", text):
        return ""
    try:
        mail = message_from_bytes(text.encode("utf-8", "replace"), policy=policy.default)
        texts = [part for part in mail.walk() if part.get_content_maintype() == "text"]
        return "\n".join(str(part.get_content()) for part in texts)
    except Exception:  # noqa: BLE001 - what a stranger's mail may break in its reader is beyond count
        return ""


def claims_of(payload: dict[str, Any], now: datetime) -> Claims:
    """The claims of a payload whose signature is right. Raises BadInput for what is missing or
    wrong, and for a voucher that does not hold yet, or no longer.
    """
    try:
        claims = Claims.model_validate(payload)
    except ValidationError as error:
        fault = error.errors(include_url=False, include_input=False)[0]
        where = ".".join(str(part) for part in fault["loc"]) or "payload"
        raise BadInput(
            "bad_voucher",
            f"The voucher's “{where}” is not as it should be: {fault['msg']}.",
            "Ask the issuer for a new one.",
        ) from error
    moment = now.timestamp()
    begins = max(claims.iat, claims.nbf or 0)
    if begins > moment + _AHEAD_SECONDS:
        day = datetime.fromtimestamp(begins, UTC)
        raise BadInput(
            "voucher_early",
            f"The voucher holds from {day:%F %H:%M} UTC on.",
            "Wait, or ask the issuer for another one.",
        )
    if claims.exp is not None and claims.exp <= moment:
        day = datetime.fromtimestamp(claims.exp, UTC)
        raise BadInput(
            "voucher_ended",
            f"The voucher could be used until {day:%F %H:%M} UTC.",
            "Ask the issuer for a new one.",
        )
    return claims


def used_as(number: str, reverts: int) -> str:
    """Under which number a voucher is booked that was taken back so many times before."""
    return number if not reverts else f"{number}/{reverts + 1}"
