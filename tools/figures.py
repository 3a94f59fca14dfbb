"""Figures of the code's shape, for one tree: `python tools/figures.py [FOLDER]`.

They say whether a line says one thing, whether a thing stands in one place, and what is untyped.
"""

from __future__ import annotations

import ast
import json
import re
import statistics
import sys
from collections.abc import Iterable
from pathlib import Path

_MADE = ("schema.d.ts", "node_modules", "static", "/handbook/")
#: The fields of a licence pool, as a file names them that knows what a pool is.
_POOL = re.compile(r"\bawaited_too\b|\bawaitedToo\b|--awaited")
#: Where it is decided how an identifier is hidden, and where something is handed through that.
_HIDING = re.compile(r"•••|VEIL_MARK")
_THROUGH_VEIL = re.compile(r"\bveil\.\w+|\bveiled_\w+\(|\bmasked=")


def sources(root: Path, *endings: str) -> list[Path]:
    """Source files that people write, without tests."""
    found = [
        path
        for folder in ("src", "console/src")
        for ending in endings
        for path in (root / folder).rglob(f"*{ending}")
    ]
    return sorted(
        path for path in found if not any(made in str(path.relative_to(root)) for made in _MADE)
    )


def lines_of(paths: Iterable[Path]) -> list[str]:
    """Their lines that hold something."""
    return [line for path in paths for line in path.read_text().splitlines() if line.strip()]


def sizes(values: Iterable[int]) -> dict[str, int]:
    """Median, ninetieth percentile, largest."""
    ordered = sorted(values)
    return {
        "median": int(statistics.median(ordered)),
        "p90": ordered[int(len(ordered) * 0.9)],
        "max": ordered[-1],
    }


def function_sizes(paths: Iterable[Path]) -> list[int]:
    """Lines of each function."""
    kinds = (ast.FunctionDef, ast.AsyncFunctionDef)
    return [
        (node.end_lineno or node.lineno) - node.lineno + 1
        for path in paths
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, kinds)
    ]


def naming(paths: Iterable[Path], pattern: re.Pattern[str]) -> list[Path]:
    """The files in which something is spoken of."""
    return [path for path in paths if pattern.search(path.read_text())]


def uses_of_any(paths: Iterable[Path]) -> int:
    """How often `Any` stands in a type."""
    return sum(
        isinstance(node, ast.Name) and node.id == "Any"
        for path in paths
        for node in ast.walk(ast.parse(path.read_text()))
    )


def measured(root: Path) -> dict[str, object]:
    """All figures of one tree."""
    python, vue = sources(root, ".py"), sources(root, ".vue", ".ts")
    code = [path for path in python if "migrations" not in path.parts]
    wide = lines_of([*python, *vue])
    inner = [path for path in code if {"store", "operations"} & set(path.parts)]
    return {
        "lines over 100 columns": sum(len(line) > 100 for line in wide),
        "lines over 120 columns": sum(len(line) > 120 for line in wide),
        "fmt: skip": sum("fmt: skip" in line for line in lines_of(python)),
        "characters a line, Python": round(statistics.mean(map(len, lines_of(python))), 1),
        "characters a line, console": round(statistics.mean(map(len, lines_of(vue))), 1),
        "lines of a Python file": sizes(len(p.read_text().splitlines()) for p in code),
        "lines of a Python function": sizes(function_sizes(code)),
        "lines of a console file": sizes(len(p.read_text().splitlines()) for p in vue),
        "places that name a pool's fields": len(naming([*code, *vue], _POOL)),
        "places that decide how to hide": len(naming(code, _HIDING)),
        "places that go through the veil": len(naming(code, _THROUGH_VEIL)),
        "Any in store and operations": uses_of_any(inner),
    }


if __name__ == "__main__":
    where = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(__file__).parents[1]
    print(json.dumps(measured(where), indent=2))
