"""Cells edited in place, over the cells as they were given."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import polars as pl

from sortitor.core.manifests import Manifest


def overlaid(
    manifest: Manifest, meaning: Mapping[str, str], edits: pl.DataFrame
) -> tuple[Manifest, dict[str, str]]:
    """The manifest with its edited cells; an edit of a column that the file does not have
    adds it.
    """
    cells, known = manifest.cells, dict(meaning)
    for (header,), part in edits.group_by("header"):
        name = str(header)
        if name not in cells.columns:
            cells = cells.with_columns(pl.lit(None, dtype=pl.String).alias(name))
            known[name] = name
        places = manifest.numbers.search_sorted(part["row"])
        cells = cells.with_columns(cells[name].scatter(places, part["value"]))
    return replace(manifest, cells=cells, headers=tuple(cells.columns)), known
