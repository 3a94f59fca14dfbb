"""The picture of the data model for the handbook: every table and reference, drawn by Graphviz.

Run after a table has changed (it needs Debian's `graphviz`): `make data-model`.
"""

from __future__ import annotations

import subprocess
from html import escape
from pathlib import Path
from typing import Any

from sqlalchemy import Column, Table

from sortitor.store.tables import metadata

TARGET = Path(__file__).parents[1] / "docs" / "handbook" / "reference" / "data-model.svg"
_LOOK = """
graph [rankdir=LR, ranksep=0.9, nodesep=0.18, bgcolor=white, pad=0.2];
node [shape=plain, fontname="Helvetica", fontsize=11];
edge [color="#8a5a3c", arrowsize=0.7];
"""


def described() -> str:
    """The model in Graphviz's language."""
    tables = sorted(metadata.tables.values(), key=lambda table: table.name)
    edges = sorted(
        {
            f'"{table.name}" -> "{key.column.table.name}" [tooltip="{key.parent.name}"];'
            for table in tables
            for key in table.foreign_keys
        }
    )
    return "\n".join(["digraph {", _LOOK, *map(_node, tables), *edges, "}"])


def _node(table: Table) -> str:
    rows = "".join(map(_row, table.columns))
    head = (
        f'<tr><td colspan="2" bgcolor="#0f5257"><font color="white">{table.name}</font></td></tr>'
    )
    return (
        f'"{table.name}" [label=<<table border="1" cellborder="0" cellspacing="0" cellpadding="3"'
        f' color="#0f5257">{head}{rows}</table>>];'
    )


def _row(column: Column[Any]) -> str:
    kind = escape(str(column.type).lower())
    return (
        f'<tr><td align="left">{_name(column)}</td>'
        f'<td align="left"><font color="#5b6b6b">{kind}</font></td></tr>'
    )


def _name(column: Column[Any]) -> str:
    return f"<b>{column.name}</b>" if column.primary_key else column.name


if __name__ == "__main__":
    drawn = subprocess.run(
        ["dot", "-Tsvg"], input=described(), capture_output=True, text=True, check=True
    )
    TARGET.write_text(drawn.stdout)
