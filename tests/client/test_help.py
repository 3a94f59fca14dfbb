"""What `help()` shows: every call has its words and an example that can be typed."""

import ast
import inspect
import re

import pytest

from sortitor.client import Sortitor

NOUNS = sorted(
    name
    for name, found in vars(Sortitor).items()
    if not name.startswith("_") and hasattr(found, "func")
)


@pytest.mark.parametrize("noun", NOUNS)
def test_every_call_has_an_example(noun: str) -> None:
    with Sortitor("http://127.0.0.1:9") as s:
        calls = getattr(s, noun)
        for name, method in inspect.getmembers(calls, inspect.ismethod):
            if name.startswith("_"):
                continue
            words = inspect.getdoc(method) or ""
            example = "\n".join(re.findall(r"^(?:>>>|\.\.\.) (.*)$", words, re.M))
            assert example, f"{noun}.{name} has no example"
            called = [
                node.func.attr
                for node in ast.walk(ast.parse(example))
                if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)
            ]
            assert name in called, (noun, name, example)
            for node in ast.walk(ast.parse(example)):
                if isinstance(node, ast.Call) and getattr(node.func, "attr", "") == name:
                    inspect.signature(method).bind(
                        *node.args, **{key.arg: key.value for key in node.keywords if key.arg}
                    )
