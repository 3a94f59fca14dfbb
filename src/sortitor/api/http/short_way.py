"""The short way to a route that asks for a JSON body, and for nothing else but what is made of the
request itself: what thousands of devices send at once need not go through all that the framework
can do. What its body fails of, the framework tells.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import Request, Response
from fastapi.datastructures import DefaultPlaceholder
from fastapi.dependencies.models import Dependant
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Form
from fastapi.routing import APIRoute, serialize_response

#: Answers what a body says, and the request that it came with.
ShortWay = Callable[[Any, Request], Coroutine[Any, Any, Response]]


def short_way(route: APIRoute) -> ShortWay | None:
    """How a route answers a body that was read and is of its model; None where it asks for more."""
    if not _asks_for_a_body_alone(route):
        return None
    dependant, shape = route.dependant, route.response_field
    assert dependant.call is not None
    endpoint = dependant.call
    (body,) = dependant.body_params
    made = [(str(one.name), one.call) for one in dependant.dependencies if one.call]
    request_name, status = dependant.request_param_name, route.status_code or 200

    async def answered(given: Any, request: Request) -> Response:
        values = {name: await make(request) for name, make in made}
        if request_name:
            values[request_name] = request
        told = await endpoint(**values, **{body.name: given})
        if isinstance(told, Response):
            return told
        content = await serialize_response(field=shape, response_content=told, dump_json=True)
        return Response(content, status, media_type="application/json")

    return answered


def _asks_for_a_body_alone(route: APIRoute) -> bool:
    dependant = route.dependant
    bodies = dependant.body_params
    return (
        inspect.iscoroutinefunction(dependant.call)
        and len(bodies) == 1
        and not isinstance(bodies[0].field_info, Form)
        and not route._embed_body_fields
        and not get_flat_params(dependant)
        and _takes_at_most_the_request(dependant)
        and all(map(_is_made_of_the_request, dependant.dependencies))
        and route.response_field is not None
        and isinstance(route.response_class, DefaultPlaceholder)
    )


def _is_made_of_the_request(dependency: Dependant) -> bool:
    return (
        _takes_at_most_the_request(dependency)
        and dependency.name is not None
        and dependency.request_param_name is not None
        and not dependency.dependencies
        and not dependency.body_params
        and inspect.iscoroutinefunction(dependency.call)
    )


def _takes_at_most_the_request(dependant: Dependant) -> bool:
    others = (
        dependant.response_param_name,
        dependant.background_tasks_param_name,
        dependant.http_connection_param_name,
        dependant.websocket_param_name,
        dependant.security_scopes_param_name,
    )
    return not any(others)
