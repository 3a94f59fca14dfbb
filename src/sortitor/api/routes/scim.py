"""Routes: SCIM 2.0 (RFC 7643, RFC 7644; cursors by RFC 9865), so that any identity provider can
push people and groups.
"""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Request, Response
from fastapi.exceptions import RequestValidationError
from pydantic import ValidationError
from pydantic_core import from_json
from scim2_models import (
    Context as ScimContext,
)
from scim2_models import (
    Error,
    ListResponse,
    Meta,
    PatchOp,
    ResourceType,
    Schema,
    SCIMException,
    SearchRequest,
)

from sortitor.api.http.access import bearer, context_of, service_of
from sortitor.api.http.problems import status_of
from sortitor.api.scim_requests import members_alone, operations_of, ready, tidied
from sortitor.core.access import Permission, may
from sortitor.core.errors import BadInput, Conflict, NotFound, NotSignedIn, SortitorError, Stale
from sortitor.core.vocabulary import Purpose
from sortitor.operations import accounts, provisioning
from sortitor.operations.context import Context
from sortitor.schemas.scim import (
    CONFIG,
    MOST_BYTES,
    MOST_OPERATIONS,
    MOST_RESULTS,
    PROVIDER,
    ScimGroup,
    ScimUser,
)

MEDIA_TYPE = "application/scim+json"
router = APIRouter(prefix="/scim/v2", include_in_schema=False)


# ---- errors and answers


def _json(status: int, content: Any, headers: Mapping[str, str] | None = None) -> Response:
    return Response(
        json.dumps(content, ensure_ascii=False) if content is not None else b"",
        status,
        dict(headers or {}),
        MEDIA_TYPE,
    )


_TYPES: dict[type[SortitorError], str] = {Conflict: "uniqueness", BadInput: "invalidValue"}


def error_of(problem: Exception) -> Error:
    """Any error as RFC 7644 §3.12 has it."""
    if isinstance(problem, SCIMException):
        return problem.to_error()
    if isinstance(problem, SortitorError):
        kind = (
            None
            if isinstance(problem, Stale)
            else next((word for known, word in _TYPES.items() if isinstance(problem, known)), None)
        )
        status = 400 if isinstance(problem, BadInput) else int(status_of(problem))
        return Error(
            status=status, scim_type=kind, detail=f"{problem.detail} {problem.remedy}".strip()
        )
    faults = (
        problem.errors() if isinstance(problem, ValidationError | RequestValidationError) else []
    )
    if not faults:
        return Error(status=400, scim_type="invalidSyntax", detail="The body cannot be read.")
    kind = str(faults[0]["type"])
    place = ".".join(str(part) for part in faults[0]["loc"] if part != "body")
    if kind.startswith("scim_"):
        scim_type = kind.removeprefix("scim_")
        words = _SCIM_WORDS.get(scim_type, "cannot be carried out")
    else:
        scim_type = "invalidSyntax" if kind == "json_invalid" else "invalidValue"
        words = next((said for begins, said in _WORDS if kind.startswith(begins)), _ELSE)
    return Error(status=400, scim_type=scim_type, detail=f"{place or 'The request'} {words}.")


#: What is wrong with a value, by how the kind of the fault begins.
_WORDS = (
    ("missing", "is missing"),
    ("string", "must be text"),
    ("bool", "must be true or false"),
    ("int", "must be a whole number"),
    ("float", "must be a number"),
    ("list", "must be a list"),
    ("dict", "must be an object"),
    ("model", "must be an object"),
    ("url", "must be an address"),
    ("datetime", "must be a time as RFC 3339 has it"),
    ("enum", "is none of the values that it can have"),
    ("literal", "is none of the values that it can have"),
    ("extra", "is not known"),
    ("json", "is not JSON"),
)
_ELSE = "has a value that it cannot have"
_SCIM_WORDS = {
    "invalidFilter": "has a filter that cannot be read",
    "invalidPath": "has a path that names nothing",
    "invalidSyntax": "is not built as RFC 7644 says",
    "invalidValue": _ELSE,
    "mutability": "changes what cannot be changed",
    "noTarget": "has a path to which nothing fits",
    "required": "lacks what is required",
    "uniqueness": "is taken already",
}


def _guarded(act: Callable[[], Response]) -> Response:
    try:
        return act()
    except (SCIMException, SortitorError, ValidationError) as problem:
        error = error_of(problem)
        headers = {"WWW-Authenticate": "Bearer"} if isinstance(problem, NotSignedIn) else {}
        return _json(int(error.status or 500), error.model_dump(), headers)


def pushing(request: Request) -> Context:
    """The context of an identity provider: a token for people, and nothing else."""
    token = bearer(request)
    if not token:
        raise NotSignedIn(
            "not_signed_in",
            "A bearer token for people is needed.",
            "Make one with `sortitor token add NAME --for-people --role coordinator`.",
        )
    service = service_of(request)
    actor = accounts.recognise(service.engine, service.clock, token=token, purpose=Purpose.PEOPLE)
    if not may(actor.role, Permission.MANAGE_PEOPLE):
        raise NotSignedIn(
            "role_too_low",
            "The token's account may not change people any more.",
            "Make a new token.",
        )
    request.state.actor = actor
    return context_of(request, actor)


async def _body(request: Request) -> Any:
    text = await request.body()
    if len(text) > MOST_BYTES:
        return _TooLarge(detail=f"The body is larger than {MOST_BYTES:,} bytes.")
    try:
        # Half of a pair, a number without end, brackets without end: refused, where the standard
        # library takes them.
        found = from_json(text or b"{}", allow_inf_nan=False)
    except ValueError as error:
        return error
    return found if isinstance(found, dict) else ValueError("The body must be a JSON object.")


Provider = Annotated[Context, Depends(pushing)]
Body = Annotated[Any, Depends(_body)]


def _given(body: Any) -> dict[str, Any]:
    if isinstance(body, SCIMException):
        raise body
    if isinstance(body, ValueError):
        raise _InvalidSyntax(detail=f"The body cannot be read as JSON: {body}.")
    return dict(body)


class _InvalidSyntax(SCIMException):
    scim_type = "invalidSyntax"


class _TooLarge(SCIMException):
    status = 413


# ---- resources

_MODELS: dict[str, Any] = {"User": ScimUser, "Group": ScimGroup}
_BULK = "urn:ietf:params:scim:api:messages:2.0:Bulk"
_PLACES = {"User": "Users", "Group": "Groups"}


def _for(message: Any, kind: str) -> Any:
    """A generic message of the library for users or groups."""
    return message[_MODELS[kind]]


def _model(ctx_base: str, resource: provisioning.Resource) -> Any:
    """The resource with its id and meta (RFC 7643 §3.1)."""
    base = f"{ctx_base}/{_PLACES[resource.kind]}/{resource.id}"
    meta = Meta(
        resource_type=resource.kind,
        created=resource.created_at,
        last_modified=resource.changed_at,
        location=base,
        version=_tag(resource),
    )
    document = {
        **resource.document,
        "id": resource.id,
        "meta": meta.model_dump(scim_ctx=None, exclude_none=True, by_alias=True),
    }
    model = _MODELS[resource.kind].model_validate(
        {**document, "schemas": _schemas(resource)}, scim_ctx=ScimContext.DEFAULT
    )
    for one in getattr(model, "members", None) or []:
        one.ref = (
            f"{ctx_base}/{'Users' if str(one.value).startswith('u') else 'Groups'}/{one.value}"
        )
    for one in getattr(model, "groups", None) or []:
        one.ref = f"{ctx_base}/Groups/{one.value}"
    return model


def _schemas(resource: provisioning.Resource) -> list[str]:
    base = f"urn:ietf:params:scim:schemas:core:2.0:{resource.kind}"
    return [base, *(name for name in resource.document if name.startswith("urn:"))]


def _tag(resource: provisioning.Resource) -> str:
    return f'W/"{resource.revision}"'


def _base(request: Request) -> str:
    return service_of(request).public_url + "/scim/v2"


def _shown(
    request: Request, resource: provisioning.Resource, status: int, scim_ctx: ScimContext
) -> Response:
    model = _model(_base(request), resource)
    if scim_ctx is ScimContext.RESOURCE_QUERY_RESPONSE and request.headers.get("if-none-match") in (
        _tag(resource),
        "*",
    ):
        return Response(status_code=304, headers={"ETag": _tag(resource)})
    content = model.model_dump(
        scim_ctx=scim_ctx, response_parameters=_parameters(request, resource.kind)
    )
    return _json(status, content, {"ETag": _tag(resource), "Location": str(model.meta.location)})


def _parameters(request: Request, kind: str) -> Any:
    asked = {
        name: request.query_params[name].split(",")
        for name in ("attributes", "excludedAttributes")
        if name in request.query_params
    }
    return (
        _for(SearchRequest, kind).model_validate(asked, scim_ctx=ScimContext.SEARCH_REQUEST)
        if asked
        else None
    )


def _document(kind: str, given: Mapping[str, Any], scim_ctx: ScimContext) -> dict[str, Any]:
    """The checked resource as it is kept."""
    return _plain(_MODELS[kind].model_validate(tidied(kind, given), scim_ctx=scim_ctx))


def _plain(model: Any) -> dict[str, Any]:
    return json.loads(model.model_dump_json(scim_ctx=None, by_alias=True, exclude_none=True))  # type: ignore[no-any-return]


def _revision(given: str | None) -> int | None:
    found = re.fullmatch(r'\s*(?:W/)?"([0-9]{1,18})"\s*', given or "")
    if given and given.strip() != "*" and not found:
        raise Stale("the resource")
    return int(found[1]) if found else None


def _listed(request: Request, ctx: Context, kind: str, asked: Any) -> Response:
    """RFC 7644 §3.4.2: filter, sort, page by index or by cursor."""
    count = min(MOST_RESULTS, 100 if asked.count is None else max(0, asked.count))
    base, sort, (place, start) = (
        _base(request),
        asked.sort_binding(_MODELS[kind]),
        _place(request, asked),
    )
    # Sorted by an attribute, a cursor is how many came before; else the last number.
    after, offset = (0, place + start - 1) if sort else (place, start - 1)
    wanted = provisioning.Asked(
        asked.filter,
        sort,
        asked.sort_order == asked.SortOrder.descending,
        base,
        after,
        offset,
        count + 1,
    )
    found, total = (
        provisioning.users(ctx, wanted)
        if kind == "User"
        else provisioning.groups(ctx, wanted, _with_members(asked))
    )
    models = [_model(base, one) for one in found[:count]]
    answer = _for(ListResponse, kind)(
        total_results=total,
        start_index=None if _by_cursor(request, asked) else start,
        items_per_page=len(models),
        resources=models or None,
    )
    if _by_cursor(request, asked) and 0 < count < len(found):
        following = str(offset + count) if sort else found[count - 1].id[1:]
        answer.next_cursor = base64.urlsafe_b64encode(following.encode()).decode().rstrip("=")
    return _json(
        200, answer.model_dump(scim_ctx=ScimContext.SEARCH_RESPONSE, response_parameters=asked)
    )


def _with_members(asked: Any) -> bool:
    hidden = {name.lower() for name in map(str, asked.excluded_attributes or [])}
    return "members" not in hidden and (
        not asked.attributes
        or any(str(name).lower().startswith("members") for name in asked.attributes)
    )


def _by_cursor(request: Request, asked: Any) -> bool:
    return asked.cursor is not None or "cursor" in request.query_params


class _InvalidCursor(SCIMException):
    scim_type = "invalidCursor"


def _place(request: Request, asked: Any) -> tuple[int, int]:
    """`(after, start)`: the number after which to go on, or the index from which, counted
    from 1.
    """
    if _by_cursor(request, asked) and (
        cursor := asked.cursor or request.query_params.get("cursor")
    ):
        try:
            return int(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4))), 1
        except ValueError as error:
            raise _InvalidCursor(detail="The cursor is not one that this service gave.") from error
    return 0, max(1, asked.start_index or 1)


def _asked(request: Request, kind: str) -> Any:
    values: dict[str, Any] = {
        name: value for name, value in request.query_params.items() if value != ""
    }
    for name in ("attributes", "excludedAttributes"):
        if name in values:
            values[name] = values[name].split(",")
    values.pop("cursor", None)
    if cursor := request.query_params.get("cursor"):
        values["cursor"] = cursor
    return _for(SearchRequest, kind).model_validate(values, scim_ctx=ScimContext.SEARCH_REQUEST)


def _kind(place: str) -> str:
    kind = next((kind for kind, known in _PLACES.items() if known == place), None)
    if kind is None:
        raise NotFound("resource type", place)
    return kind


# ---- routes


@router.get("/ServiceProviderConfig")
def show_config() -> Response:
    """What this service can do (RFC 7643 §5)."""
    return _json(200, CONFIG.model_dump(scim_ctx=ScimContext.RESOURCE_QUERY_RESPONSE))


def _described(
    found: Sequence[Any], name: str | None, key: Callable[[Any], str], kind: type[Any]
) -> Response:
    if name is not None:
        one = next((one for one in found if key(one) == name), None)
        return _guarded(
            lambda: _json(
                200, _must(one, name).model_dump(scim_ctx=ScimContext.RESOURCE_QUERY_RESPONSE)
            )
        )
    answer = ListResponse[kind](  # type: ignore[valid-type]
        total_results=len(found), start_index=1, items_per_page=len(found), resources=list(found)
    )
    return _json(200, answer.model_dump(scim_ctx=ScimContext.SEARCH_RESPONSE))


def _must(found: Any, name: str) -> Any:
    if found is None:
        raise NotFound("description", name)
    return found


@router.get("/Schemas")
def list_schemas() -> Response:
    """The schemas of users and groups (RFC 7643 §7)."""
    return _described(PROVIDER.schemas, None, lambda one: str(one.id), Schema)


@router.get("/Schemas/{name}")
def show_schema(name: str) -> Response:
    """One schema."""
    return _described(PROVIDER.schemas, name, lambda one: str(one.id), Schema)


@router.get("/ResourceTypes")
def list_types() -> Response:
    """The resource types (RFC 7643 §6)."""
    return _described(
        PROVIDER.resource_types, None, lambda one: str(one.id or one.name), ResourceType
    )


@router.get("/ResourceTypes/{name}")
def show_type(name: str) -> Response:
    """One resource type."""
    return _described(
        PROVIDER.resource_types, name, lambda one: str(one.id or one.name), ResourceType
    )


@router.api_route("/ServiceProviderConfig", methods=["POST", "PUT", "PATCH", "DELETE"])
@router.api_route("/Schemas", methods=["POST", "PUT", "PATCH", "DELETE"])
@router.api_route("/Schemas/{name}", methods=["POST", "PUT", "PATCH", "DELETE"])
@router.api_route("/ResourceTypes", methods=["POST", "PUT", "PATCH", "DELETE"])
@router.api_route("/ResourceTypes/{name}", methods=["POST", "PUT", "PATCH", "DELETE"])
def only_read() -> Response:
    """The service describes itself; nobody else does (RFC 7644 §4)."""
    error = Error(status=405, detail="This can only be read.")
    return _json(405, error.model_dump(), {"Allow": "GET, HEAD"})


@router.api_route("/Me", methods=["GET", "POST", "PUT", "PATCH", "DELETE"])
def me(ctx: Provider) -> Response:
    """Tokens belong to no user (RFC 7644 §3.11)."""
    return _json(
        501, Error(status=501, detail="A token for people belongs to no user.").model_dump()
    )


@router.post("/Bulk")
def bulk(request: Request, ctx: Provider, body: Body) -> Response:
    """Many changes in one request, each whole in itself (RFC 7644 §3.7)."""
    return _guarded(lambda: _bulk(request, ctx, _given(body)))


def _bulk(request: Request, ctx: Context, given: dict[str, Any]) -> Response:
    operations, schemas = given.get("Operations") or [], given.get("schemas")
    if isinstance(operations, list) and len(operations) > MOST_OPERATIONS:
        raise _TooLarge(detail=f"At most {MOST_OPERATIONS} operations are carried out at once.")
    if (
        not isinstance(operations, list)
        or not isinstance(schemas, list)
        or _BULK + "Request" not in schemas
        or not all(isinstance(one, dict) for one in operations)
    ):
        raise _InvalidSyntax(
            detail=f"A bulk request has the schema {_BULK}Request and a list of Operations."
        )
    results: list[dict[str, Any]] = []
    known: dict[str, str] = {}
    failures, most = 0, given.get("failOnErrors")
    for operation in operations:
        if isinstance(most, int) and most and failures >= most:
            break
        done = _guarded(lambda one=operation: _one_of_many(request, ctx, one, known))  # type: ignore[misc]
        failures += done.status_code >= 400
        location, bulk_id = done.headers.get("location"), operation.get("bulkId")
        if bulk_id and location:
            known[str(bulk_id)] = location.rsplit("/", 1)[1]
        told = {
            "method": operation.get("method"),
            "bulkId": bulk_id,
            "location": location,
            "version": done.headers.get("etag"),
            "status": str(done.status_code),
            "response": json.loads(bytes(done.body)) if done.status_code >= 400 else None,
        }
        results.append({name: value for name, value in told.items() if value is not None})
    return _json(200, {"schemas": [_BULK + "Response"], "Operations": results})


def _one_of_many(
    request: Request, ctx: Context, raw: Mapping[str, Any], known: Mapping[str, str]
) -> Response:
    text = re.sub(
        r'"bulkId:([^"]+)"',
        lambda found: json.dumps(known.get(found[1], found[0].strip('"'))),
        json.dumps(raw.get("data") or {}),
    )
    data = json.loads(text)
    if not isinstance(data, dict):
        raise _InvalidSyntax(detail="The data of an operation are a JSON object.")
    path = (
        re.sub(
            r"bulkId:([^/]+)", lambda found: known.get(found[1], found[0]), str(raw.get("path", ""))
        )
        .strip("/")
        .split("/")
    )
    kind, method = _kind(path[0]), str(raw.get("method", "")).upper()
    resource_id, version = (path[1] if len(path) > 1 else ""), raw.get("version")
    if method == "POST" and not resource_id:
        return _create(request, ctx, kind, data)
    if method not in ("PUT", "PATCH", "DELETE") or not resource_id:
        raise _InvalidSyntax(detail=f"{method} {'/'.join(path)} is not an operation.")
    # The location is told also of what is gone.
    answer = (
        {"PUT": _replace, "PATCH": _patch}[method](request, ctx, kind, resource_id, data, version)
        if method != "DELETE"
        else _delete(ctx, kind, resource_id, version)
    )
    answer.headers["Location"] = f"{_base(request)}/{_PLACES[kind]}/{resource_id}"
    return answer


def _create(request: Request, ctx: Context, kind: str, given: dict[str, Any]) -> Response:
    add = provisioning.add_user if kind == "User" else provisioning.add_group
    return _shown(
        request,
        add(ctx, _document(kind, given, ScimContext.RESOURCE_CREATION_REQUEST)),
        201,
        ScimContext.RESOURCE_CREATION_RESPONSE,
    )


def _changing(kind: str) -> Callable[..., provisioning.Resource]:
    return provisioning.change_user if kind == "User" else provisioning.change_group


def _replace(
    request: Request,
    ctx: Context,
    kind: str,
    resource_id: str,
    given: dict[str, Any],
    version: str | None,
) -> Response:
    document = _document(kind, given, ScimContext.RESOURCE_REPLACEMENT_REQUEST)
    changed = _changing(kind)(
        ctx,
        resource_id,
        _revision(version),
        lambda before: {"active": before.active, **document} if kind == "User" else document,
    )
    return _shown(request, changed, 200, ScimContext.RESOURCE_REPLACEMENT_RESPONSE)


def _patch(
    request: Request,
    ctx: Context,
    kind: str,
    resource_id: str,
    given: dict[str, Any],
    version: str | None,
) -> Response:
    operations = operations_of(given)
    members = members_alone(operations) if kind == "Group" else None
    if members is not None:
        changed = provisioning.change_members(ctx, resource_id, _revision(version), members.wanted)
        # Nobody is sent a whole group for a few members (RFC 7644 §3.5.2).
        location = f"{_base(request)}/Groups/{changed.id}"
        return Response(status_code=204, headers={"ETag": _tag(changed), "Location": location})

    def patched(before: provisioning.Resource) -> dict[str, Any]:
        found = ready(kind, operations, before.document)
        if not found:
            return before.document
        asked = _for(PatchOp, kind).model_validate(
            {**given, "Operations": found}, scim_ctx=ScimContext.RESOURCE_PATCH_REQUEST
        )
        model = _model(_base(request), before)
        asked.patch(model)
        return _plain(model)

    return _shown(
        request,
        _changing(kind)(ctx, resource_id, _revision(version), patched),
        200,
        ScimContext.RESOURCE_PATCH_RESPONSE,
    )


def _delete(ctx: Context, kind: str, resource_id: str, version: str | None) -> Response:
    (provisioning.remove_user if kind == "User" else provisioning.remove_group)(
        ctx, resource_id, _revision(version)
    )
    return Response(status_code=204)


@router.post("/.search")
def search_everything(request: Request, ctx: Provider, body: Body) -> Response:
    """Users and groups in one list (RFC 7644 §3.4.3): the users first."""
    return _guarded(lambda: _searched(request, ctx, _given(body)))


def _searched(request: Request, ctx: Context, given: dict[str, Any]) -> Response:
    base = _base(request)
    found: list[Any] = []
    checked = _for(SearchRequest, "User").model_validate(
        {name: given[name] for name in ("startIndex", "count") if name in given},
        scim_ctx=ScimContext.SEARCH_REQUEST,
    )
    sums, skipped = 0, min(max(1, checked.start_index or 1) - 1, 1_000_000_000)
    count = min(MOST_RESULTS, 100 if checked.count is None else max(0, checked.count))
    for kind, read in (("User", provisioning.users), ("Group", _groups_alone)):
        asked = _for(SearchRequest, kind).model_validate(
            {name: value for name, value in given.items() if name not in ("sortBy", "cursor")},
            scim_ctx=ScimContext.SEARCH_REQUEST,
        )
        offset = max(0, skipped - sums)
        wanted = provisioning.Asked(
            asked.filter, None, False, base, 0, offset, max(0, count - len(found))
        )
        page, total = read(ctx, wanted)
        sums += total
        models = (_model(base, one) for one in page)
        found += (
            model.model_dump(scim_ctx=ScimContext.SEARCH_RESPONSE, response_parameters=asked)
            for model in models
        )
    return _json(
        200,
        {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"],
            "totalResults": sums,
            "startIndex": skipped + 1,
            "itemsPerPage": len(found),
            "Resources": found,
        },
    )


def _groups_alone(ctx: Context, asked: Any) -> tuple[list[provisioning.Resource], int]:
    return provisioning.groups(ctx, asked, with_members=False)


@router.post("/{place}/.search")
def search(request: Request, ctx: Provider, place: str, body: Body) -> Response:
    """A list asked for in the body (RFC 7644 §3.4.3)."""

    def found() -> Response:
        kind = _kind(place)
        return _listed(
            request,
            ctx,
            kind,
            _for(SearchRequest, kind).model_validate(
                _given(body), scim_ctx=ScimContext.SEARCH_REQUEST
            ),
        )

    return _guarded(found)


@router.get("/{place}")
def list_resources(request: Request, ctx: Provider, place: str) -> Response:
    """Users or groups."""
    return _guarded(lambda: _listed(request, ctx, _kind(place), _asked(request, _kind(place))))


@router.post("/{place}")
def create(request: Request, ctx: Provider, place: str, body: Body) -> Response:
    """A new user or group."""
    return _guarded(lambda: _create(request, ctx, _kind(place), _given(body)))


@router.get("/{place}/{resource_id}")
def show(request: Request, ctx: Provider, place: str, resource_id: str) -> Response:
    """One user or group."""
    return _guarded(
        lambda: _shown(
            request,
            (provisioning.user if _kind(place) == "User" else provisioning.group)(ctx, resource_id),
            200,
            ScimContext.RESOURCE_QUERY_RESPONSE,
        )
    )


@router.put("/{place}/{resource_id}")
def replace(request: Request, ctx: Provider, place: str, resource_id: str, body: Body) -> Response:
    """A user or group with other content."""
    return _guarded(
        lambda: _replace(
            request, ctx, _kind(place), resource_id, _given(body), request.headers.get("if-match")
        )
    )


@router.patch("/{place}/{resource_id}")
def patch(request: Request, ctx: Provider, place: str, resource_id: str, body: Body) -> Response:
    """A user or group with some of it changed (RFC 7644 §3.5.2)."""
    return _guarded(
        lambda: _patch(
            request, ctx, _kind(place), resource_id, _given(body), request.headers.get("if-match")
        )
    )


@router.delete("/{place}/{resource_id}")
def delete(request: Request, ctx: Provider, place: str, resource_id: str) -> Response:
    """A user (kept as left) or group that the provider has no more."""
    return _guarded(
        lambda: _delete(ctx, _kind(place), resource_id, request.headers.get("if-match"))
    )
