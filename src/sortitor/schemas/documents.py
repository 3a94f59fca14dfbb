"""Documents on the wire: the core's own models, and what goes with changing them."""

from __future__ import annotations

from typing import Any, TypeVar

from pydantic import BaseModel, Field, create_model

from sortitor.core.documents import Document, NamedDocument
from sortitor.schemas.base import Answer, Time

D = TypeVar("D", bound=Document)


class Kept(BaseModel):
    """What every kept document has beside its fields."""

    id: int = Field(description="Its number.")
    revision: int = Field(description="How often it was changed, from 1; the ETag of an edit.")


class Revision(Answer):
    """One change of a document, as the journal keeps it."""

    id: int
    at: Time
    actor: str
    operation: str
    summary: str
    reason: str | None
    before: Any
    after: Any
    reverts: int | None
    reverted_by: int | None


_DIGEST = Field(
    default=None,
    description="Of the preview that was looked at; 409 if the change would be another now.",
)
_REASON = Field(default=None, max_length=500, description="Why, for the journal.")


def change_of(model: type[D]) -> type[D]:
    """The model of a request that adds or edits a document: its fields, the digest of the preview
    that was looked at, and the reason.
    """
    return create_model(
        f"{model.__name__}Change",
        __base__=model,
        __doc__=f"{model.__name__} as it should be.",
        digest=(str | None, _DIGEST),
        reason=(str | None, _REASON),
    )


def document_in(model: type[D], given: Document) -> D:
    """The document of such a request."""
    return model.model_validate(given.model_dump(exclude={"digest", "reason"}))


__all__ = ["Document", "Kept", "NamedDocument", "Revision", "change_of", "document_in"]
