"""Routes: files to fill in, one for each platform."""

from __future__ import annotations

from typing import Literal

import polars as pl
from fastapi import Response

from sortitor.api.http.access import MayLook
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.routes import Router
from sortitor.core.vocabulary import Platform
from sortitor.operations import lots

router = Router(prefix="/lot-templates", tags=["lots"])


@router.get(
    "/{platform}",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def download_template(
    ctx: MayLook, platform: Platform, form: Literal["csv", "xlsx"] = "csv"
) -> Response:
    """A file with the headers that this platform's devices have, understood without a mapping;
    identifiers are formatted as text.
    """
    headers = lots.template(platform)
    return as_file(
        pl.DataFrame(schema=dict.fromkeys(headers, pl.String)), f"template-{platform.value}", form
    )
