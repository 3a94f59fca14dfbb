"""Makes the asynchronous client, `sortitor.client.aio`, of the synchronous one, their one source.

A function that waits for an answer becomes a coroutine, or an asynchronous iterator; every call of
one is awaited. A test compares what is committed with what this makes.
"""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1] / "src/sortitor/client"
MADE = ROOT / "aio"
#: Written by hand on both sides, or the same on both.
_BY_HAND = {"errors.py", "sending.py"}
_NAMES = {
    "Client": "AsyncClient",
    "Retrying": "AsyncRetrying",
    "Sortitor": "AsyncSortitor",
    "__enter__": "__aenter__",
    "__exit__": "__aexit__",
    "close": "aclose",
    "iter_bytes": "aiter_bytes",
    "read": "aread",
}
#: Of the HTTP library: what waits for an answer.
_WAITING = {"send", "post", "read", "close"}
_HEAD = "# Made by tools/async_client.py; change the module of the same name one folder up.\n"


class _Found(ast.NodeVisitor):
    """The names of functions that wait, directly or through one another."""

    def __init__(self, trees: list[ast.Module]) -> None:
        self.names = {"sleep"}
        functions = [
            node
            for tree in trees
            for node in ast.walk(tree)
            if isinstance(node, ast.FunctionDef) and node.name not in ("__init__",)
        ]
        while True:
            more = {one.name for one in functions if self.waits(one)} - self.names
            if not more:
                break
            self.names |= more

    def waits(self, function: ast.FunctionDef) -> bool:
        """Whether a function waits for an answer."""
        return any(isinstance(node, ast.Call) and self.is_awaited(node) for node in _own(function))

    def is_awaited(self, call: ast.Call) -> bool:
        """Whether a call is one that has to be awaited."""
        called = call.func
        if isinstance(called, ast.Call):
            return isinstance(called.func, ast.Name) and called.func.id == "_patiently"
        if not isinstance(called, ast.Attribute):
            return False
        on, name = ast.unparse(called.value), called.attr
        if on == "time":
            return name == "sleep"
        if on in ("self.http", "self._transport.http"):
            return name in _WAITING
        if on == "response":
            return name == "read"
        ours = on in ("self", "self._t") or on.endswith("(self._t)")
        return ours and name in self.names and name not in _ITERATING


#: Names of ours that give an asynchronous iterator, which is not awaited.
_ITERATING: set[str] = set()


def _own(function: ast.FunctionDef) -> list[ast.AST]:
    """The nodes of a function without those of functions inside it."""
    found: list[ast.AST] = []
    waiting = list(ast.iter_child_nodes(function))
    while waiting:
        node = waiting.pop()
        found.append(node)
        if not isinstance(node, ast.FunctionDef | ast.Lambda):
            waiting.extend(ast.iter_child_nodes(node))
    return found


class _Turned(ast.NodeTransformer):
    """One module, made asynchronous."""

    def __init__(self, found: _Found) -> None:
        self._found = found

    def visit_ImportFrom(self, node: ast.ImportFrom) -> ast.AST:
        """Ours come from the folder beside."""
        module = node.module or ""
        if module.startswith("sortitor.client") and not module.endswith(".errors"):
            node.module = module.replace("sortitor.client", "sortitor.client.aio", 1)
        for alias in node.names:
            alias.name = _NAMES.get(alias.name, alias.name)
            if module == "collections.abc" and alias.name == "Iterator":
                alias.name = "AsyncIterator, Iterator"
        return node

    def visit_Import(self, node: ast.Import) -> ast.AST:
        """Sleeping is the loop's."""
        for alias in node.names:
            alias.name = "asyncio" if alias.name == "time" else alias.name
        return node

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        """A function that waits is a coroutine; one that gives an iterator over answers gives an
        asynchronous one.
        """
        waits = node.name == "__enter__" or (_is_method(node) and self._found.waits(node))
        self.generic_visit(node)
        node.name = _NAMES.get(node.name, node.name)
        if _is_method(node) and node.returns is not None:
            node.returns = _asynchronous(node.returns)
        if not waits:
            return node
        return ast.AsyncFunctionDef(**{name: getattr(node, name) for name in node._fields})

    def visit_Call(self, node: ast.Call) -> ast.AST:
        """Waited for, where it waits."""
        awaited = self._found.is_awaited(node)
        self.generic_visit(node)
        return ast.Await(node) if awaited else node

    def visit_Attribute(self, node: ast.Attribute) -> ast.AST:
        """The names of the HTTP library."""
        self.generic_visit(node)
        on = ast.unparse(node.value)
        if on == "time":
            node.value = ast.Name("asyncio")
        elif on in ("httpx", "response", "self", "self._transport.http"):
            node.attr = _NAMES.get(node.attr, node.attr)
        return node

    def visit_Name(self, node: ast.Name) -> ast.AST:
        """Classes that have another name here."""
        if node.id in ("Retrying", "Sortitor"):
            node.id = _NAMES[node.id]
        return node

    def visit_ClassDef(self, node: ast.ClassDef) -> ast.AST:
        """The client itself has another name here."""
        self.generic_visit(node)
        node.name = _NAMES.get(node.name, node.name)
        return node

    def visit_With(self, node: ast.With) -> ast.AST:
        """A connection is opened and closed in the loop; a file is not."""
        self.generic_visit(node)
        if "self.http.stream" in ast.unparse(node.items[0]):
            return ast.AsyncWith(node.items, node.body)
        return node

    def visit_For(self, node: ast.For) -> ast.AST:
        """Answers that come one by one."""
        self.generic_visit(node)
        if "aiter_bytes" in ast.unparse(node.iter):
            return ast.AsyncFor(node.target, node.iter, node.body, node.orelse)
        return node

    def visit_Expr(self, node: ast.Expr) -> ast.AST:
        """What one iterator gives of another; those of ours are lists by then."""
        self.generic_visit(node)
        if isinstance(node.value, ast.YieldFrom):
            one = ast.Name("one")
            return ast.For(one, node.value.value, [ast.Expr(ast.Yield(one))], [])
        return node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        """Names that are exported."""
        if node.value == "Sortitor":
            node.value = "AsyncSortitor"
        return node


def _is_method(node: ast.FunctionDef) -> bool:
    return bool(node.args.args) and node.args.args[0].arg == "self"


def _asynchronous(annotation: ast.expr) -> ast.expr:
    if isinstance(annotation, ast.Subscript) and ast.unparse(annotation.value) == "Iterator":
        annotation.value = ast.Name("AsyncIterator")
    return annotation


def made() -> dict[str, str]:
    """The modules of the asynchronous client by their names."""
    sources = {
        path.name: ast.parse(path.read_text())
        for path in sorted(ROOT.glob("*.py"))
        if path.name not in _BY_HAND
    }
    _ITERATING.update(
        node.name
        for tree in sources.values()
        for node in ast.walk(tree)
        if isinstance(node, ast.FunctionDef)
        and node.returns is not None
        and ast.unparse(node.returns).startswith("Iterator")
    )
    found = _Found(list(sources.values()))
    texts = {}
    for name, tree in sources.items():
        turned = ast.fix_missing_locations(_Turned(found).visit(tree))
        texts[name] = _formatted(_HEAD + ast.unparse(turned) + "\n", name)
    return texts


def _formatted(text: str, name: str) -> str:
    ruff = str(Path(sys.executable).with_name("ruff"))
    for arguments in (
        ["check", "--fix", "--quiet", "--select", "I,F401,UP", "--exit-zero"],
        ["format", "--quiet"],
    ):
        text = subprocess.run(
            [ruff, *arguments, "--stdin-filename", str(MADE / name), "-"],
            input=text,
            capture_output=True,
            text=True,
            check=True,
        ).stdout
    return text


def main() -> None:
    """Write them."""
    MADE.mkdir(exist_ok=True)
    for name, text in made().items():
        (MADE / name).write_text(text)


if __name__ == "__main__":
    main()
