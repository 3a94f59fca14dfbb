"""Terms."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.terms import Form as Form
from sortitor.core.terms import Terms as Terms
from sortitor.core.terms import TermsText as TermsText
from sortitor.schemas.base import Answer


class TermsDetail(Terms):
    """Terms as they are kept."""

    model_config = ConfigDict(extra="ignore")

    id: int
    revision: int = Field(description="Their version; the ETag of an edit.")


class TermsPage(Answer):
    """Terms as a person sees them: clean HTML in one language."""

    language: str
    html: str
