"""The routes of a kind of document: list, show, add, edit, remove, with previews and revisions."""

# No postponed annotations here: what the routes take and give is known only when they are made.

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Generic, TypeVar

from fastapi import APIRouter, Body, Depends, Path, Query, Response
from fastapi.exceptions import RequestValidationError
from pydantic import BaseModel, ValidationError
from pydantic_core import to_json

from sortitor.api.http.access import MayLook, needs
from sortitor.api.http.etags import IfMatch, edited, revision_of, tag
from sortitor.api.http.routes import Router
from sortitor.core.access import Permission
from sortitor.core.documents import Document
from sortitor.core.patches import patched
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Kept
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.documents import Revision, change_of, document_in

D = TypeVar("D", bound=Document)
A = TypeVar("A", bound=BaseModel)
Key = Annotated[str, Path(max_length=200, description="Its number or its name.")]
Patch = Annotated[
    dict[str, Any],
    Body(media_type="application/merge-patch+json", description="The fields that change."),
]
Why = Annotated[str | None, Query(max_length=500, description="Why, for the journal.")]
Digest = Annotated[str | None, Query(description="Of the preview that was looked at.")]


@dataclass(frozen=True)
class Noun(Generic[D, A]):
    """What the routes of one kind of document need to know.

    `one` and `many` are its name in operation ids (`show_pool`, `list_pools`); `answer` is its
    shape on the wire; `every` and `find` read it, `shape` makes the answer of one just written.
    """

    kind: DocumentKind[D]
    path: str
    tag: str
    one: str
    many: str
    answer: type[A]
    every: Callable[[Context], Sequence[A]]
    find: Callable[[Context, str], A]
    shape: Callable[[Context, Kept[D]], A]
    may: Permission


def document_router(noun: Noun[D, A]) -> APIRouter:
    """The routes of one kind of document."""
    router = Router(prefix=noun.path, tags=[noun.tag])
    _reading(router, noun)
    _previewing(router, noun)
    _changing(router, noun)
    return router


def _reading(router: APIRouter, noun: Noun[D, A]) -> None:
    answer = noun.answer

    @router.get(
        "",
        operation_id=f"list_{noun.many}",
        description=f"{noun.many.replace('_', ' ').capitalize()} by name.",
    )
    def every(ctx: MayLook) -> Page[answer]:  # type: ignore[valid-type]
        return whole(noun.every(ctx))

    @router.get(
        "/{key}",
        operation_id=f"show_{noun.one}",
        description=f"One {noun.kind.noun}, by number or name.",
    )
    def show(response: Response, ctx: MayLook, key: Key) -> answer:  # type: ignore[valid-type]
        found = noun.find(ctx, key)
        tag(response, _revision(found))
        return found

    @router.get(
        "/{key}/revisions",
        operation_id=f"list_{noun.one}_revisions",
        description=f"What was changed of a {noun.kind.noun}, newest first.",
    )
    def revisions(ctx: MayLook, key: Key) -> Page[Revision]:
        return whole(Revision.model_validate(row) for row in noun.kind.revisions(ctx, key))


def _previewing(router: APIRouter, noun: Noun[D, A]) -> None:
    kind, model = noun.kind, noun.kind.shelf.model

    @router.post(
        "/preview",
        operation_id=f"preview_add_{noun.one}",
        description=f"What adding the {kind.noun} would do.",
    )
    def preview_add(ctx: MayLook, given: model) -> Preview:  # type: ignore[valid-type]
        return Preview.model_validate(kind.preview_add(ctx, given))

    @router.post(
        "/{key}/preview",
        operation_id=f"preview_edit_{noun.one}",
        description=f"What changing the {kind.noun} would do: its fields, and what follows.",
    )
    def preview_edit(ctx: MayLook, key: Key, given: model) -> Preview:  # type: ignore[valid-type]
        return Preview.model_validate(kind.preview_edit(ctx, key, given))

    @router.post(
        "/{key}/patch/preview",
        operation_id=f"preview_patch_{noun.one}",
        description=f"What changing what is named of the {kind.noun} would do (RFC 7396).",
    )
    def preview_patch(ctx: MayLook, key: Key, given: Patch) -> Preview:
        proposed = _patched(noun, ctx, key, given)[1]
        return Preview.model_validate(kind.preview_edit(ctx, key, proposed))

    @router.post(
        "/{key}/removal/preview",
        operation_id=f"preview_remove_{noun.one}",
        description=f"What removing the {kind.noun} would do.",
    )
    def preview_remove(ctx: MayLook, key: Key) -> Preview:
        return Preview.model_validate(kind.preview_remove(ctx, key))


def _changing(router: APIRouter, noun: Noun[D, A]) -> None:
    kind, model, answer = noun.kind, noun.kind.shelf.model, noun.answer
    change: Any = change_of(model)
    may = Annotated[Context, Depends(needs(noun.may))]

    @router.post(
        "",
        status_code=201,
        operation_id=f"add_{noun.one}",
        description=f"Add a {kind.noun}, as previewed where its digest is given.",
    )
    def add(response: Response, ctx: may, given: change) -> answer:  # type: ignore[valid-type]
        made = kind.add(ctx, document_in(model, given), given.digest, given.reason)
        response.headers["Location"] = f"/api/v1{noun.path}/{made.id}"
        tag(response, made.revision)
        return noun.shape(ctx, made)

    @router.put(
        "/{key}",
        operation_id=f"edit_{noun.one}",
        description=f"Change a {kind.noun}; `If-Match` refuses one that was changed meanwhile.",
    )
    def edit(
        response: Response,
        ctx: may,
        key: Key,
        given: change,
        if_match: IfMatch = None,
    ) -> answer:  # type: ignore[valid-type]
        made = kind.edit(
            ctx,
            key,
            document_in(model, given),
            revision=edited(if_match, given.digest, kind.noun),
            digest=given.digest,
            reason=given.reason,
        )
        tag(response, made.revision)
        return noun.shape(ctx, made)

    @router.patch(
        "/{key}",
        operation_id=f"patch_{noun.one}",
        description=(
            f"Change what is named of a {noun.kind.noun} (RFC 7396) and nothing else; null sets a"
            " field back to its default."
        ),
    )
    def patch(
        response: Response,
        ctx: may,
        key: Key,
        given: Patch,
        digest: Digest = None,
        reason: Why = None,
        if_match: IfMatch = None,
    ) -> answer:  # type: ignore[valid-type]
        edited(if_match, digest, kind.noun)
        found, proposed = _patched(noun, ctx, key, given)
        # What was merged with is what is changed, whatever the header lets through.
        revision = revision_of(if_match) or found
        made = kind.edit(ctx, key, proposed, revision=revision, digest=digest, reason=reason)
        tag(response, made.revision)
        return noun.shape(ctx, made)

    @router.delete(
        "/{key}",
        status_code=204,
        operation_id=f"remove_{noun.one}",
        description=(
            f"Remove a {kind.noun}; reverting the journal's entry brings it back. `If-Match`"
            " refuses one that was changed meanwhile."
        ),
    )
    def remove(
        ctx: may,
        key: Key,
        digest: Digest = None,
        reason: Why = None,
        if_match: IfMatch = None,
    ) -> None:
        revision = edited(if_match, digest, kind.noun)
        kind.remove(ctx, key, revision=revision, digest=digest, reason=reason)


def _patched(noun: Noun[D, A], ctx: Context, key: str, patch: dict[str, Any]) -> tuple[int, D]:
    """The revision of the document that is there, and what the patch makes of it. Raises
    RequestValidationError for what is none.
    """
    found, model = noun.find(ctx, key), noun.kind.shelf.model
    if strange := next((name for name in patch if name not in model.model_fields), None):
        raise RequestValidationError(
            [{"type": "extra_forbidden", "loc": ("body", strange), "msg": "", "input": None}]
        )
    there = found.model_dump(mode="json", include=set(model.model_fields))
    try:
        return _revision(found), model.model_validate_json(to_json(patched(there, patch)))
    except ValidationError as error:
        faults = [
            {**fault, "loc": ("body", *fault["loc"])} for fault in error.errors(include_url=False)
        ]
        raise RequestValidationError(faults) from error


def _revision(found: BaseModel) -> int:
    return int(found.revision)  # type: ignore[attr-defined]
