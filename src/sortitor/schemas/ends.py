"""What ends, and who is reminded of it."""

from __future__ import annotations

from datetime import date

from pydantic import ConfigDict, Field

from sortitor.core.ends import Reminders as Reminders
from sortitor.core.vocabulary import EndKind
from sortitor.schemas.base import Answer, Apply


class End(Answer):
    """One day on which something ends."""

    key: str = Field(description="The same from look to look.")
    kind: EndKind
    title: str
    ends_on: date
    days_left: int = Field(description="Negative once it is past.")
    count: int = Field(description="Of how many things it is the end.")
    page: str = Field(description="The console's page of it.")


class RemindersDetail(Reminders):
    """The reminders as they are kept."""

    model_config = ConfigDict(extra="ignore")

    revision: int = Field(description="The ETag of an edit.")


class RemindersApply(Apply):
    """Save the reminders as previewed."""

    reminders: Reminders
