"""The welcome card: what a person sees of the organisation while a device comes in."""

from __future__ import annotations

import re

from pydantic import Field, field_validator

from sortitor.core.documents import Document, Name, Note
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.terms import LANGUAGES

#: Between white text and the colour behind it (WCAG 2.2, 1.4.3: level AA).
LEAST_CONTRAST = 4.5
_COLOUR = re.compile(r"#[0-9a-f]{6}")


class Greeting(Document):
    """The organisation's own words in one language."""

    language: str = Field(description="One of en, de, fr, es, ar.")
    text: str = Field(max_length=1_000, description="Plain text.")


class WelcomeCard(Document):
    """Who welcomes a person, and who helps them."""

    organisation: Name = Field(description="The organisation's name.")
    colour: str = Field(default="#1d5c63", description="Behind the name: `#rrggbb`.")
    picture: str | None = Field(
        default=None,
        pattern=r"^[0-9a-f]{64}$",
        description="The digest of a picture that was uploaded.",
    )
    help_name: Note = Field(default=None, description="Who helps.")
    help_phone: Note = Field(default=None, description="Their phone number.")
    help_mail: Note = Field(default=None, description="Their mail address.")
    help_hours: Note = Field(default=None, description="When they can be reached.")
    greetings: tuple[Greeting, ...] = Field(default=(), max_length=20)

    @field_validator("colour")
    @classmethod
    def _small(cls, value: str) -> str:
        return value.strip().lower()

    def check(self) -> None:
        """Raise BadInput for a colour that cannot be read upon, or an unknown language."""
        problems = []
        if not _COLOUR.fullmatch(self.colour):
            detail = f"{self.colour!r} is no colour; write it as #rrggbb."
            problems.append(FieldProblem("/colour", "bad_colour", detail))
        elif contrast_with_white(self.colour) < LEAST_CONTRAST:
            found = contrast_with_white(self.colour)
            detail = (
                f"White text on {self.colour} has a contrast of {found:.1f} to 1;"
                f" it must be {LEAST_CONTRAST} to 1. Take a darker colour."
            )
            problems.append(FieldProblem("/colour", "low_contrast", detail))
        for place, greeting in enumerate(self.greetings):
            if greeting.language not in LANGUAGES:
                detail = f"{greeting.language!r} is no language of the person's page."
                pointer = f"/greetings/{place}/language"
                problems.append(FieldProblem(pointer, "unknown_language", detail))
        if problems:
            raise BadInput(
                problems[0].code, problems[0].detail, "Nothing was saved.", tuple(problems)
            )


def contrast_with_white(colour: str) -> float:
    """The contrast ratio of a colour with white (WCAG 2.2)."""
    parts = [int(colour[place : place + 2], 16) / 255 for place in (1, 3, 5)]
    linear = [
        part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts
    ]
    luminance = 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
    return 1.05 / (luminance + 0.05)
