"""Kits, and whom they are given to."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from pydantic import Field

from sortitor.core.documents import Document, Name, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.previews import digest_of
from sortitor.core.vocabulary import GivenAs

MOST_ITEMS = 500
MOST_POSITION = 10_000


class Given(Document):
    """To whom a kit, or an item by itself, is given."""

    cohort: Name | None = Field(default=None, description="The cohort's name; null: everyone.")
    word: GivenAs = Field(
        default=GivenAs.REQUIRED,
        description="`required`: devices get it; `offered`: people may take it; `excluded`: they"
        " get it from nowhere.",
    )


class RankedDocument(NamedDocument):
    """A document that is given, and of several of which the one that stands highest wins."""

    position: int = Field(
        default=100, ge=1, le=MOST_POSITION, description="Its place; of several 1 is the highest."
    )
    given: tuple[Given, ...] = Field(
        default=(), max_length=200, description="To whom it is given; empty: to nobody yet."
    )
    note: Note = Field(default=None, description="What it is for.")

    @property
    def content(self) -> str:
        """What devices are sent of it, as a digest."""
        return digest_of(self.model_dump(mode="json", exclude={"position", "given", "note"}))


class Kit(RankedDocument):
    """A set of items that are given together. Where two kits say different things, the one that
    stands higher wins: the smaller position.
    """

    items: tuple[Name, ...] = Field(
        default=(), max_length=MOST_ITEMS, description="The names of its items."
    )

    def check(self) -> None:
        """Raise BadInput for an item, or somebody, that stands there twice."""
        once("/items", "The item", self.items)
        check_given(self.given)


def check_given(given: Sequence[Given], alone: bool = False) -> None:
    """Raise BadInput where one cohort is named twice. alone: whether a device has only one of
    these, so that nothing can be offered.
    """
    once("/given", "The cohort", [one.cohort or "everyone" for one in given])
    if alone and any(one.word is GivenAs.OFFERED for one in given):
        words = "It cannot be offered: a device has it or not."
        problem = FieldProblem("/given", "not_offered", words)
        raise BadInput("not_offered", words, "Choose required or excluded.", (problem,))


def once(place: str, what: str, names: Sequence[str]) -> None:
    """Raise BadInput where a name stands twice, without regard to case."""
    twice = [name for name, number in Counter(map(str.casefold, names)).items() if number > 1]
    if twice:
        words = f"{what} “{twice[0]}” is named twice."
        problem = FieldProblem(place, "named_twice", words)
        raise BadInput("named_twice", words, "Name it once.", (problem,))
