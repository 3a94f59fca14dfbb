"""Pass codes: ten characters that a person can read aloud and type without a mistake going
unseen.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import unicodedata
from collections.abc import Callable, Collection
from datetime import datetime, timedelta

from pydantic import Field
from stdnum import luhn

from sortitor.core.documents import Document, Moment, Name
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import Activation, Ownership, SignInWay

#: Crockford's base32: no I, L, O or U.
ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
_SLIPS = str.maketrans("OILU", "011V")


def new_code(choice: Callable[[str], str]) -> str:
    """Nine random characters (45 bits) and a Luhn check character over the alphabet of 32."""
    body = "".join(choice(ALPHABET) for _ in range(9))
    return body + str(luhn.calc_check_digit(body, ALPHABET))


def read_code(typed: str) -> str | None:
    """The code as it was meant: blanks and hyphens gone, O read as 0, I and L as 1; None when it
    cannot be one.
    """
    code = "".join(typed.upper().replace("-", "").split()).translate(_SLIPS)
    if len(code) != 10 or set(code) - set(ALPHABET) or not luhn.is_valid(code, ALPHABET):
        return None
    return code


def hash_code(code: str) -> str:
    """What is stored of a code."""
    return hashlib.sha256(b"pass:" + code.encode()).hexdigest()


def hash_passcode(passcode: str) -> bytes:
    """What is stored of a passcode: 16 random bytes, and scrypt (RFC 7914) over both."""
    salt = os.urandom(16)
    return salt + _stretched(passcode, salt)


def is_passcode(typed: str, kept: bytes) -> bool:
    """Whether a typed passcode is the pass's; blanks around it do not matter."""
    return hmac.compare_digest(_stretched(typed, kept[:16]), kept[16:])


def _stretched(passcode: str, salt: bytes) -> bytes:
    given = unicodedata.normalize("NFKC", passcode).strip().encode()
    return hashlib.scrypt(given, salt=salt, n=2**13, r=8, p=1, dklen=32)


def shown(code: str) -> str:
    """The code as it is printed: two groups of five."""
    return f"{code[:5]}-{code[5:]}"


def trouble(
    now: datetime,
    valid_from: datetime,
    valid_until: datetime,
    revoked: bool,
    uses: int,
    max_uses: int | None,
) -> str | None:
    """The reason code of a pass that no longer (or not yet) holds, else None."""
    if revoked or not valid_from <= now < valid_until:
        return "pass_expired"
    if max_uses is not None and uses >= max_uses:
        return "pass_spent"
    return None


class GroupPlace(Document):
    """Where the devices of a group's people go."""

    group: Name = Field(description="The person's group.")
    cohort: Name = Field(description="The list that the device joins.")


class PassTerms(Document):
    """Under which conditions a pass lets devices knock."""

    label: Name = Field(description="What the pass is for.")
    activation: Activation = Field(
        default=Activation.PERSON, description="Who brings an arriving device into use."
    )
    ownership: Ownership | None = Field(default=None, description="What the pass declares.")
    asks_ownership: bool = Field(
        default=False, description="Whether the person says whose the device is."
    )
    person: str | None = Field(
        default=None,
        max_length=200,
        description="User name or mail of the one person whom the pass is for.",
    )
    sign_in: SignInWay = Field(
        default=SignInWay.NOBODY,
        description="How the person must be proven; the gate may want more.",
    )
    cohort: Name | None = Field(
        default=None, description="The list that its devices join, by its name."
    )
    cohort_by_group: tuple[GroupPlace, ...] = Field(
        default=(),
        max_length=50,
        description="Group → list: the first group that the person is in decides.",
    )
    valid_from: Moment | None = Field(default=None, description="Empty: from now on.")
    valid_days: int = Field(default=14, ge=1, le=398, description="For how many days it holds.")
    max_uses: int | None = Field(
        default=None, ge=1, le=100_000, description="How many devices may use it; empty: any."
    )

    def check(self) -> None:
        """Raise BadInput for what contradicts itself."""
        if self.asks_ownership and self.ownership is not None:
            detail = "The pass declares whose its devices are, so it cannot ask."
            problem = FieldProblem("/asks_ownership", "contradiction", detail)
            raise BadInput("contradiction", detail, "Choose one of the two.", (problem,))

    def place_for(self, groups: Collection[str]) -> str | None:
        """The list that a device of a person in these groups joins."""
        inside = {name.casefold() for name in groups}
        for place in self.cohort_by_group:
            if place.group.casefold() in inside:
                return place.cohort
        return self.cohort

    def validity(self, now: datetime) -> tuple[datetime, datetime]:
        """From when until when the pass holds. Raises BadInput for one that has ended already."""
        start = self.valid_from or now
        end = start + timedelta(days=self.valid_days)
        if end <= now:
            detail = f"The pass would have ended on {end:%Y-%m-%d %H:%M}."
            problem = FieldProblem("/valid_days", "pass_validity", detail)
            raise BadInput("pass_validity", detail, "Choose a later end.", (problem,))
        return start, end
