"""Pass codes: ten characters that a person can read aloud and type without a mistake going
unseen.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import datetime, timedelta

from pydantic import AwareDatetime, Field
from stdnum import luhn

from sortitor.core.documents import Document, Name
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import Activation, Ownership

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


class PassTerms(Document):
    """Under which conditions a pass lets devices knock."""

    label: Name = Field(description="What the pass is for.")
    activation: Activation = Field(
        default=Activation.PERSON, description="Who brings an arriving device into use."
    )
    ownership: Ownership | None = Field(default=None, description="What the pass declares.")
    person: str | None = Field(
        default=None,
        max_length=200,
        description="User name or mail of the one person whom the pass is for.",
    )
    valid_from: AwareDatetime | None = Field(default=None, description="Empty: from now on.")
    valid_days: int = Field(default=14, ge=1, le=398, description="For how many days it holds.")
    max_uses: int | None = Field(
        default=None, ge=1, le=100_000, description="How many devices may use it; empty: any."
    )

    def validity(self, now: datetime) -> tuple[datetime, datetime]:
        """From when until when the pass holds. Raises BadInput for one that has ended already."""
        start = self.valid_from or now
        end = start + timedelta(days=self.valid_days)
        if end <= now:
            detail = f"The pass would have ended on {end:%Y-%m-%d %H:%M}."
            problem = FieldProblem("/valid_days", "pass_validity", detail)
            raise BadInput("pass_validity", detail, "Choose a later end.", (problem,))
        return start, end
