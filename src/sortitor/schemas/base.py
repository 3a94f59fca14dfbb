"""What all wire models share."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Annotated, Generic, TypeVar

from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict, Field

from sortitor.core import building
from sortitor.core.documents import Day as Day
from sortitor.core.documents import Moment
from sortitor.core.documents import Name as Name
from sortitor.core.documents import Text as Text


def _in_range(moment: datetime) -> datetime:
    """Within what every calendar and database can hold in every time zone."""
    if not _FIRST_YEAR <= moment.year <= _LAST_YEAR:
        raise ValueError(f"The year must lie between {_FIRST_YEAR} and {_LAST_YEAR}")
    return moment


_FIRST_YEAR, _LAST_YEAR = 1900, 9000
Time = Annotated[AwareDatetime, AfterValidator(_in_range)]
GivenTime = Annotated[Moment, AfterValidator(_in_range)]


class Request(BaseModel):
    """What a caller sends: unknown fields are refused."""

    model_config = ConfigDict(extra="forbid", defer_build=building.when_used)


class Answer(BaseModel):
    """What the service gives back."""

    model_config = ConfigDict(from_attributes=True, defer_build=building.when_used)


class SecretAnswer(Answer):
    """An answer with a secret that is shown this once: nothing keeps it, not even for a repeated
    request.
    """


Item = TypeVar("Item")


class Page(Answer, Generic[Item]):
    """One page of a list; `next` is the cursor of the page after it, null on the last."""

    items: list[Item]
    next: str | None = None
    total: int | None = Field(default=None, description="Only where `total=true` was asked for.")


def whole(items: Iterable[Item]) -> Page[Item]:
    """A list that is one page: every list has the same envelope."""
    return Page(items=list(items))


def page_of(item: type[Item]) -> type[Page[Item]]:
    """The model of a page of these."""
    return Page[item]  # type: ignore[valid-type]


class Problem(Answer):
    """An error (RFC 9457): `code` is stable for programs, `remedy` says what to do."""

    type: str
    title: str
    status: int
    detail: str
    code: str
    remedy: str = ""
    errors: list[ProblemField] = []
    preview: Preview | None = None
    request_id: str | None = None


class ProblemField(Answer):
    """One value that is wrong; `pointer` is a JSON pointer (RFC 6901) or a place in a file;
    `suggestion` is what would be right, where that can be told.
    """

    pointer: str
    code: str
    detail: str
    suggestion: str = ""


class Count(Answer):
    """One number of a preview."""

    key: str
    label: str
    count: int
    tone: str


class Example(Answer):
    """One line of a preview: before → after."""

    subject: str
    field: str
    before: str | None
    after: str | None
    note: str
    device_id: int | None


class Bar(Answer):
    """One bar of a histogram of idle days."""

    low: int
    high: int
    count: int


class Change(Answer):
    """What becomes of one field of a document."""

    field: str
    before: str | None
    after: str | None


class Preview(Answer):
    """What a change would do. Applying must quote the digest."""

    title: str
    apply_label: str
    counts: list[Count]
    examples: list[Example]
    examples_total: int
    warnings: list[str]
    bars: list[Bar] = []
    bars_line_days: int | None = None
    nothing_to_do: bool = Field(default=False, description="Applying would do nothing.")
    changes: list[Change] = Field(default=[], description="What becomes of a document's fields.")
    digest: str


class Apply(Request):
    """Apply what the preview of this digest showed."""

    digest: Text
    reason: str | None = Field(default=None, max_length=500)


class ReasonGiven(Request):
    """Why, for the journal."""

    reason: str | None = Field(default=None, max_length=500)
