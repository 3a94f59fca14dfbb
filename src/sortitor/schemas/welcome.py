"""The welcome card."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.welcome import Greeting as Greeting
from sortitor.core.welcome import WelcomeCard as WelcomeCard
from sortitor.schemas.base import Answer, Apply


class WelcomeDetail(WelcomeCard):
    """The welcome card as it is kept."""

    model_config = ConfigDict(extra="ignore")

    revision: int = Field(description="The ETag of an edit.")


class WelcomeApply(Apply):
    """Save the welcome card as previewed."""

    card: WelcomeCard


class PictureKept(Answer):
    """A picture that was uploaded."""

    digest: str
