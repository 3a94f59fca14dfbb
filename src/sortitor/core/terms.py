"""Terms that a person accepts before a device comes in: versions and languages."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from pydantic import Field

from sortitor.core.documents import Document, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem

#: The languages of the person's page (BCP 47), with their own names.
LANGUAGES: dict[str, str] = {
    "en": "English",
    "de": "Deutsch",
    "fr": "Français",
    "es": "Español",
    "ar": "العربية",
}
MOST_CHARACTERS = 100_000


class Form(StrEnum):
    """How the text of terms is written."""

    TEXT = "text"
    MARKDOWN = "markdown"
    HTML = "html"


class TermsText(Document):
    """The text in one language."""

    language: str = Field(description="One of en, de, fr, es, ar.")
    text: str = Field(description="The text.")


class Terms(NamedDocument):
    """A document that must be accepted at the door; each change is a new version of it."""

    note: Note = Field(default=None, description="What it is for; people do not see it.")
    form: Form = Field(
        default=Form.TEXT,
        description="`text`, `markdown` or `html`; what is active in HTML is taken out.",
    )
    texts: tuple[TermsText, ...] = Field(
        max_length=20, description="The text in each language; others see English or the first one."
    )

    def check(self) -> None:
        """Raise BadInput for an unknown language, or a text that is missing or too long."""
        problems = tuple(self._problems())
        if problems:
            raise BadInput(
                "bad_terms", problems[0].detail, "Correct it; nothing was saved.", problems
            )

    def _problems(self) -> Iterator[FieldProblem]:
        if not self.texts:
            yield FieldProblem("/texts", "missing", "The terms have no text.")
        seen = set()
        for place, one in enumerate(self.texts):
            pointer = f"/texts/{place}"
            if one.language not in LANGUAGES:
                known = ", ".join(LANGUAGES)
                detail = (
                    f"{one.language!r} is no language of the person's page; these are: {known}."
                )
                yield FieldProblem(f"{pointer}/language", "unknown_language", detail)
            elif one.language in seen:
                detail = f"There are two texts in {one.language}."
                yield FieldProblem(f"{pointer}/language", "twice", detail)
            elif not one.text.strip():
                detail = f"The text in {one.language} is empty."
                yield FieldProblem(f"{pointer}/text", "missing", detail)
            elif len(one.text) > MOST_CHARACTERS:
                detail = (
                    f"The text in {one.language} is longer than {MOST_CHARACTERS:,} characters."
                )
                yield FieldProblem(f"{pointer}/text", "too_long", detail)
            seen.add(one.language)

    def text_in(self, language: str | None) -> tuple[str, str]:
        """The text in a language, or else in English, or else the first; with its language."""
        texts = {one.language: one.text for one in self.texts}
        for wanted in (language, "en", self.texts[0].language):
            if wanted in texts:
                return str(wanted), texts[str(wanted)]
        raise AssertionError("terms have a text")
