"""Terms."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.terms import Form as Form
from sortitor.core.terms import Terms as Terms
from sortitor.core.terms import TermsText as TermsText
from sortitor.schemas.base import Answer, Time


class TermsDetail(Terms):
    """Terms as they are kept."""

    model_config = ConfigDict(extra="ignore")

    id: int
    revision: int = Field(description="Their version; the ETag of an edit.")


class Acceptance(Answer):
    """Somebody accepted terms at the door."""

    id: int
    at: Time
    terms_name: str
    revision: int = Field(description="The version that was accepted.")
    language: str = Field(description="In which language it was read (BCP 47).")
    person_id: int | None
    person: str | None = Field(description="Their user name; null: nobody who is known here.")
    person_name: str | None
    device_id: int | None = Field(description="The device that they brought.")


class TermsPage(Answer):
    """Terms as a person sees them: clean HTML in one language."""

    language: str
    html: str
