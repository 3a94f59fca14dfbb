"""Passes."""

from __future__ import annotations

from sortitor.core.passes import PassTerms as PassTerms
from sortitor.core.vocabulary import Activation, Ownership
from sortitor.schemas.base import Answer, SecretAnswer, Time


class PassCode(SecretAnswer):
    """A new pass; the code is shown this once.

    `qr_svg` is a QR of the address of the welcome page.
    """

    id: int
    code: str
    url: str
    qr_svg: str


class Pass(Answer):
    """A pass without its code."""

    id: int
    label: str
    activation: Activation
    ownership: Ownership | None
    person_name: str | None
    valid_from: Time
    valid_until: Time
    max_uses: int | None
    uses: int
    created_by: str
    revoked_at: Time | None
    state: str
