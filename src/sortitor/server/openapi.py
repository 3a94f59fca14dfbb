"""Prints the OpenAPI document of the HTTP interface, from which the console's types are made."""

from __future__ import annotations

import json
from typing import cast

from sortitor.api.app import make_app
from sortitor.api.http.service import Service
from sortitor.operations.context import Clock, Limits
from sortitor.server.settings import wall_now


def document() -> str:
    """The document as JSON; no database is needed for it."""
    nothing = cast("object", None)
    service = Service(nothing, Clock(wall_now, wall_now), Limits(), nothing, 1)  # type: ignore[arg-type]
    return json.dumps(make_app(service).openapi(), indent=1, sort_keys=True)


if __name__ == "__main__":
    print(document())
