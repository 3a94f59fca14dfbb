"""The OpenAPI document (OpenAPI 3.1), so that it says what the service does and good clients can be
made of it: who may call, every status that can come back with its headers, words for everything.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from fastapi import FastAPI
from fastapi.routing import APIRoute, iter_route_contexts

from sortitor.api.http.access import COOKIE
from sortitor.api.http.bodies import FILE_BODY
from sortitor.api.http.descriptions import EXAMPLES, IN_SCHEMA, PROPERTIES, TAGS
from sortitor.api.http.problems import phrase_of
from sortitor.api.http.routes import PREFIX, answers_of, permissions_of, table_answer

_Node = dict[str, Any]

#: Without a sign-in: what a person needs to sign in, and what everybody sees at the door.
_FOR_ALL = ("/session", "/setup", "/agent/knock", "/agent/announce", "/agent/check-ins")
_WELCOME = "/welcome-card"
_SCHEMES: _Node = {
    "token": {
        "type": "http",
        "scheme": "bearer",
        "description": "A token of an account: `sortitor token add`.",
    },
    "session": {
        "type": "apiKey",
        "in": "cookie",
        "name": COOKIE,
        "description": "The session of the console; a change needs its header besides.",
    },
    "device": {
        "type": "http",
        "scheme": "bearer",
        "description": "The credential of a device, or the secret of its way in.",
    },
}
_ERRORS: dict[int, str] = {
    400: "The body cannot be read.",
    401: "Nobody is signed in, or the credential is not known.",
    403: "The role does not allow it.",
    404: "There is no such thing.",
    406: "There is no answer of a media type that is accepted.",
    408: "The body came too slowly.",
    409: "It does not agree with what is there: the facts moved, or it was done.",
    412: "It was changed since it was read.",
    413: "The body is too large.",
    415: "The body is of a media type that is not taken.",
    416: "The file has no such part.",
    422: "A value is wrong; `errors` says which.",
    424: "Another system does not do what is asked of it.",
    428: "The edit says neither what was read nor what was previewed.",
    429: "Too much at once; `Retry-After` says when to try again.",
    503: "Not at the moment; `Retry-After` says when to try again.",
}
_HEADERS: dict[str, tuple[str, str, str]] = {
    "ETag": ("string", '"3"', "What was read; quoted by `If-Match` and `If-None-Match`."),
    "Idempotent-Replay": ("string", "true", "The answer is that of the same request before."),
    "Link": ("string", '</api/v1/devices?cursor=WzU>; rel="next"', "The next page (RFC 8288)."),
    "Location": ("string", "/api/v1/jobs/7", "Where it is found."),
    "Preference-Applied": ("string", "respond-async", "The preference was heeded (RFC 7240)."),
    "RateLimit": ("string", '"requests";r=29990;t=42', "What is left, for how many seconds."),
    "RateLimit-Policy": ("string", '"requests";q=30000;w=60', "How much in how many seconds."),
    "Retry-After": ("integer", "5", "Seconds after which to ask again."),
    "Sortitor-Journal-Entry": ("integer", "118", "The journal's entry: where the way back is."),
    "WWW-Authenticate": ("string", "Bearer", "How to sign in."),
    "X-Request-Id": ("string", "5f0c9a…", "The name of the request in the log."),
}
_ALWAYS = ("RateLimit", "RateLimit-Policy", "X-Request-Id")
_KEY: _Node = {
    "name": "Idempotency-Key",
    "in": "header",
    "required": False,
    "description": "Repeated with the same request within 24 hours, nothing is done twice.",
    "schema": {"type": "string", "maxLength": 200},
    "example": "2f4a6c0e8b1d",
}


def install(app: FastAPI, load_routes: Callable[[], None]) -> None:
    """Let the app give the document as it is put right here."""
    made = app.openapi

    def document() -> _Node:
        if app.openapi_schema is None:
            load_routes()
            app.openapi_schema = _put_right(made(), app)
        return app.openapi_schema

    app.openapi = document  # type: ignore[method-assign]


def _put_right(document: _Node, app: FastAPI) -> _Node:
    base = app.state.service.limits.base
    document["servers"] = [{"url": f"{base}/", "description": "This service."}]
    document["tags"] = [{"name": name, "description": words} for name, words in TAGS.items()]
    components = document["components"]
    components["securitySchemes"] = _SCHEMES
    components["headers"] = {name: _header(*told) for name, told in _HEADERS.items()}
    components["responses"] = {_name(status): _problem(status) for status in _ERRORS}
    for name in ("HTTPValidationError", "ValidationError"):
        components["schemas"].pop(name, None)
    routes = _routes(app)
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            _describe(operation, routes[path, method], method, path)
    for name, schema in components["schemas"].items():
        _word(name, schema)
        _require_kind(schema)
    renamed: _Node = _renamed(document)
    for name, schema in renamed["components"]["schemas"].items():
        # Generators call a model after its title.
        schema["title"] = name
    return renamed


def _routes(app: FastAPI) -> dict[tuple[str, str], APIRoute]:
    """The routes by address and method."""
    return {
        (found.path_format, method.lower()): found.original_route
        for found in iter_route_contexts(app.routes)
        if isinstance(found.original_route, APIRoute) and found.path_format
        for method in found.original_route.methods or ()
    }


def _header(kind: str, example: str, words: str) -> _Node:
    shown: str | int = int(example) if kind == "integer" else example
    return {"description": words, "schema": {"type": kind}, "example": shown}


def _name(status: int) -> str:
    return phrase_of(status).title().replace(" ", "").replace("-", "")


def _problem(status: int) -> _Node:
    names = list(_ALWAYS)
    names += ["Retry-After"] if status in (429, 503) else []
    names += ["WWW-Authenticate"] if status == 401 else []
    return {
        "description": _ERRORS[status],
        "headers": _heads(names),
        "content": {
            "application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}
        },
    }


def _heads(names: list[str]) -> _Node:
    return {name: {"$ref": f"#/components/headers/{name}"} for name in sorted(names)}


def _describe(operation: _Node, route: APIRoute, method: str, path: str) -> None:
    operation["security"] = _security(route, path)
    parameters = operation.setdefault("parameters", [])
    for parameter in parameters:
        _word_parameter(parameter)
    if method == "post" and route.openapi_extra is None:
        parameters.append(_KEY)
    answers = operation["responses"]
    for status in [one for one in answers if one[0] in "45"]:
        del answers[status]
    for status, answer in answers.items():
        _describe_answer(answer, int(status), route, method)
    for code in sorted(set(_statuses(operation, route, method, path))):
        answers[str(code)] = {"$ref": f"#/components/responses/{_name(code)}"}
    if not parameters:
        del operation["parameters"]


def _security(route: APIRoute, path: str) -> list[_Node]:
    if permissions_of(route):
        return [{"token": []}, {"session": []}]
    below = path.removeprefix(PREFIX)
    if below in ("/agent/knock", "/agent/check-in"):
        return [{}, {"device": []}]
    if below.startswith("/agent/") and below not in _FOR_ALL:
        return [{"device": []}]
    if below in (*_FOR_ALL, _WELCOME) or below.startswith((f"{_WELCOME}/pictures/", "/calendar/")):
        return [{}]
    return [{"token": []}, {"session": []}]


def _describe_answer(answer: _Node, status: int, route: APIRoute, method: str) -> None:
    if answer.get("description") in ("Successful Response", None):
        answer["description"] = _DONE.get(status, "What was asked for.")
    names = list(_ALWAYS)
    content = answer.get("content", {})
    if (method == "get" and status in (200, 206, 304)) or (
        _takes_revision(route) and method != "delete"
    ):
        names.append("ETag")
    if table := table_answer(route):
        names += ["Link"]
        content.update(table)
    if status in (201, 202):
        names.append("Location")
    if status == 202:
        names += ["Preference-Applied", "Retry-After"]
    if method != "get":
        names += ["Sortitor-Journal-Entry"]
    if method == "post" and route.openapi_extra is None:
        names += ["Idempotent-Replay"]
    answer["headers"] = {**answer.get("headers", {}), **_heads(names)}
    for media, told in content.items():
        if not told.get("schema"):
            told.update(_binary(media))


_DONE = {
    201: "It is made.",
    202: "A job does it.",
    204: "Done; there is nothing to say.",
}


def _binary(media: str) -> _Node:
    """A file as bytes, a stream of events as text."""
    if media.startswith("text/"):
        return {"schema": {"type": "string"}}
    return {"schema": {"type": "string", "contentMediaType": media, "format": "binary"}}


def _takes_revision(route: APIRoute) -> bool:
    return any(field.alias == "if-match" for field in route.dependant.header_params)


def _statuses(operation: _Node, route: APIRoute, method: str, path: str) -> Iterator[int]:
    """The errors that can come back."""
    yield from (422, 429, 503)
    if answers_of(route):
        yield 406
    secured = {} not in operation["security"]
    if secured or not (method == "get" and path.startswith(f"{PREFIX}{_WELCOME}")):
        yield 401
    if permissions_of(route) or secured:
        yield 403
    if "{" in path or method != "get" or "/agent/" in path or operation.get("parameters"):
        yield 404
    if method != "get" or "sources" in operation["tags"]:
        yield 409
    if _takes_revision(route):
        yield from (412, 428)
    if "requestBody" in operation:
        yield from (400, 408, 413, 415)
    if "206" in operation["responses"]:
        yield 416
    if "sources" in operation["tags"] or route.openapi_extra is FILE_BODY or "levels" in path:
        yield 424


def _word_parameter(parameter: _Node) -> None:
    name = parameter["name"]
    parameter.setdefault("description", PROPERTIES.get(name, ""))
    schema = parameter.get("schema", {})
    if name in EXAMPLES and "example" not in parameter and _is_text(schema):
        parameter["example"] = EXAMPLES[name]


def _word(name: str, schema: _Node) -> None:
    """Give each property its words and an example."""
    schema.setdefault("description", "A page of a list.")
    for key, told in schema.get("properties", {}).items():
        words = IN_SCHEMA.get(f"{name}.{key}") or PROPERTIES.get(key)
        if words and "description" not in told:
            told["description"] = words
        if key in EXAMPLES and _is_text(told) and "examples" not in told:
            told["examples"] = [EXAMPLES[key]]


def _require_kind(schema: _Node) -> None:
    """What tells the members of a union apart is always there."""
    told = [key for key, value in schema.get("properties", {}).items() if "const" in value]
    if told:
        schema["required"] = sorted({*schema.get("required", []), *told})


def _is_text(told: _Node) -> bool:
    kinds = [told, *told.get("anyOf", [])]
    return any(kind.get("type") == "string" and "enum" not in kind for kind in kinds)


def _renamed(node: Any) -> Any:
    """Pages called after what they list: `Page_Lot_` is `LotPage`."""
    if isinstance(node, dict):
        if "prefixItems" in node:
            # For linters that do not know that a tuple has no further items.
            node = {**node, "items": node["prefixItems"][0]}
        return {_plain(key): _renamed(value) for key, value in node.items()}
    if isinstance(node, list):
        return [_renamed(value) for value in node]
    if isinstance(node, str) and node.startswith("#/components/schemas/"):
        return "#/components/schemas/" + _plain(node.rsplit("/", 1)[1])
    return node


def _plain(name: str) -> str:
    if name.startswith("Page_") and name.endswith("_"):
        inner = name[len("Page_") : -1]
        return f"{inner[:1].upper()}{inner[1:]}Page"
    return name
