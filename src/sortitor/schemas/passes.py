"""Passes."""

from __future__ import annotations

from pydantic import Field

from sortitor.core.passes import PassTerms as PassTerms
from sortitor.core.vocabulary import Activation, MailState, Ownership, SignInWay
from sortitor.schemas.base import Answer, Request, SecretAnswer, Time


class WifiGiven(Request):
    """The wireless network that a sheet of paper lets a device join; it is kept nowhere."""

    ssid: str = Field(min_length=1, max_length=32, description="The network's name.")
    password: str | None = Field(default=None, min_length=8, max_length=63)
    hidden: bool = Field(default=False, description="Whether it does not tell its name.")


class PassGiven(PassTerms):
    """A pass to make; its passcode is kept as a digest."""

    passcode: str | None = Field(
        default=None,
        min_length=4,
        max_length=50,
        description="What the bearer must be told beside the code.",
    )
    mailed: bool = Field(default=False, description="Whether it is mailed to its person.")
    wifi: WifiGiven | None = Field(default=None, description="For the sheet of paper.")


class PassesGiven(Request):
    """A pass each for many people, in one action."""

    terms: PassTerms = Field(description="Their terms; `person` is left out.")
    people: list[str] = Field(
        default=[], max_length=5_000, description="User names or mail addresses."
    )
    group: str | None = Field(default=None, description="Or everybody in this group.")
    passcode: str | None = Field(default=None, min_length=4, max_length=50)
    mailed: bool = Field(default=True, description="Whether each is mailed to its person.")


class PassCode(SecretAnswer):
    """A new pass; the code is shown this once.

    `qr_svg` is a QR of the address of the welcome page.
    """

    id: int
    code: str
    url: str
    qr_svg: str
    wifi_svg: str | None = Field(
        default=None, description="A QR in the common `WIFI:` form, where a network was given."
    )


class PassOfPerson(SecretAnswer):
    """A new pass of one of many; the code is shown this once, where it was not mailed."""

    id: int
    person: str
    code: str | None = Field(description="Null where it was mailed.")


class Pass(Answer):
    """A pass without its code; of those that were made in one action the first."""

    id: int
    label: str
    activation: Activation
    ownership: Ownership | None
    asks_ownership: bool
    sign_in: SignInWay
    has_passcode: bool
    cohort: str | None
    person_name: str | None
    valid_from: Time
    valid_until: Time
    max_uses: int | None
    uses: int
    created_by: str
    created_at: Time
    revoked_at: Time | None
    mailed_at: Time | None
    made: int = Field(description="How many were made in this action.")
    used: int = Field(description="How many of them were used.")
    state: str


class PassUse(Answer):
    """Whose a pass of many is, and what became of it."""

    id: int
    person_id: int | None
    person_name: str | None
    uses: int
    revoked_at: Time | None
    mail_state: MailState | None = Field(description="Of the newest mail about it.")
    device_id: int | None
    device_name: str | None


class Revoking(Request):
    """End a pass, or all that were made with it."""

    whole_batch: bool = False
    reason: str | None = Field(default=None, max_length=500)


class PassCount(Answer):
    """How many passes, or mails about them."""

    count: int
