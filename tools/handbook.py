"""The handbook's reference, made from the code that it describes; a hook of MkDocs.

Each page is a function that gives Markdown; the build puts them beside the pages that are written
by hand in `docs/handbook`, and the pictures beside them.
"""

from __future__ import annotations

import ast
import json
import re
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import groupby
from pathlib import Path
from typing import Any

import click
from mkdocs.config.defaults import MkDocsConfig
from mkdocs.structure.files import File, Files

from sortitor.api.http.problems import STATUS
from sortitor.cli.main import root
from sortitor.core import errors, filters, gate, notes, words
from sortitor.core.access import WORDS, Permission, may
from sortitor.core.journal import FINAL
from sortitor.core.naming.templates import FIELDS, FILTERS
from sortitor.core.vocabulary import Role
from sortitor.server.openapi import document
from sortitor.server.settings import documentation
from sortitor.store.failures import CONSTRAINTS

HERE = Path(__file__).parents[1]
SOURCE = HERE / "src" / "sortitor"
PICTURES = HERE / "docs" / "screenshots"


def on_files(files: Files, config: MkDocsConfig) -> Files:
    """Put the made pages and the pictures beside the written ones."""
    for path, make in PAGES.items():
        files.append(File.generated(config, path, content=make()))
    for picture in sorted(PICTURES.glob("*.png")):
        content = picture.read_bytes()
        files.append(File.generated(config, f"pictures/{picture.name}", content=content))
    return files


def table(heads: Iterable[str], rows: Iterable[Iterable[object]]) -> str:
    """A table; what could end a cell early is escaped."""
    titles = list(heads)
    lines = [titles, ["---"] * len(titles), *([_cell(cell) for cell in row] for row in rows)]
    return "\n".join(f"| {' | '.join(line)} |" for line in lines) + "\n"


def _cell(value: object) -> str:
    return str(value).replace("|", "\\|").replace("\n", " ")


def code(text: object) -> str:
    """Text as it is typed."""
    return f"`{text}`"


# ---- commands


def commands() -> str:
    """Every command, as its own help says it."""
    parts = [
        "# Commands\n\nEvery command has `--help`; this page is made from it. Data is written with"
        " `-o json`, `jsonl` or `csv` for scripts. Exit codes: 0 done, 1 done and something needs"
        " a hand, 2 wrong use, 3 not signed in or no answer, 4 refused, 5 the facts are others"
        " now.\n"
    ]
    for path, command in every_command():
        if isinstance(command, click.Group):
            parts.append(f"\n## {path}\n\n{command.help}\n")
            continue
        context = click.Context(command, info_name=path, max_content_width=90)
        level = "###" if " " in path.removeprefix("sortitor ") else "##"
        text = command.get_help(context).replace("\b\n", "")
        parts.append(f"\n{level} {path}\n\n```text\n{text}\n```\n")
    return "".join(parts)


def every_command() -> Iterator[tuple[str, click.Command]]:
    """`sortitor noun verb` → command, groups before their commands."""
    context = click.Context(root)
    for name in root.list_commands(context):
        command = root.get_command(context, name)
        assert command is not None
        yield f"sortitor {name}", command
        if isinstance(command, click.Group):
            for verb in command.list_commands(context):
                yield f"sortitor {name} {verb}", command.commands[verb]


# ---- codes


def error_codes() -> dict[str, tuple[str, str, str]]:
    """Code → (HTTP status, what it says, what to do), read from where errors are raised."""
    found = {code_: ("409", said, remedy) for code_, said, remedy in CONSTRAINTS.values()}
    for file in sorted(SOURCE.rglob("*.py")):
        tree = ast.parse(file.read_text())
        for kind, call in _errors_in(tree):
            name, said, remedy = _arguments(call, _constants(tree))
            if name.replace("_", "").isalpha():
                found.setdefault(name, (_status(kind), said, remedy))
    return dict(sorted(found.items()))


def _errors_in(tree: ast.Module) -> Iterator[tuple[type[errors.SortitorError], ast.Call]]:
    """Every making of an error: by its name, or by `super()` in the class of one."""
    for node in ast.walk(tree):
        if isinstance(node, ast.ClassDef) and (kind := _error(node.name)):
            for call in ast.walk(node):
                if isinstance(call, ast.Call) and ast.unparse(call.func) == "super().__init__":
                    yield kind, call
        # One with a making of its own says its code there.
        kind = _error(ast.unparse(node.func)) if isinstance(node, ast.Call) else None
        if isinstance(node, ast.Call) and kind and "__init__" not in vars(kind):
            yield kind, node


def _error(name: str) -> type[errors.SortitorError] | None:
    kind = getattr(errors, name.rpartition(".")[2], None)
    is_one = isinstance(kind, type) and issubclass(kind, errors.SortitorError)
    return kind if is_one else None


def _constants(tree: ast.Module) -> dict[str, list[ast.expr]]:
    """Tuples that stand at the top of a module, such as the words of a wrong password."""
    return {
        ast.unparse(node.targets[0]): node.value.elts
        for node in tree.body
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Tuple)
    }


def _arguments(call: ast.Call, known: Mapping[str, list[ast.expr]]) -> tuple[str, str, str]:
    """Code, detail and remedy of an error's making."""
    given: list[ast.expr] = []
    for one in call.args:
        given += known.get(ast.unparse(one.value), []) if isinstance(one, ast.Starred) else [one]
    texts = dict(zip(("code", "detail", "remedy"), map(_text, given), strict=False))
    texts.update({word.arg: _text(word.value) for word in call.keywords if word.arg})
    return texts.get("code", ""), texts.get("detail", ""), texts.get("remedy", "")


def _status(kind: type[errors.SortitorError]) -> str:
    return str(int(next((STATUS[one] for one in kind.__mro__ if one in STATUS), 400)))


def _text(node: ast.expr) -> str:
    """A text of the source; what is filled in stands as `…`."""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(_text(part) for part in node.values)
    return "…"


def errors_page() -> str:
    """Every error code."""
    rows = [
        (code(name), status, _or(said, "what is wrong"), _or(remedy, "what to do"))
        for name, (status, said, remedy) in error_codes().items()
    ]
    return (
        "# Error codes\n\nAn error is a problem document (RFC 9457): `code` is for programs,"
        " `detail` says what happened and where, `remedy` what to do. `…` stands for what belongs"
        " to the case.\n\n" + table(("Code", "Status", "It says", "What to do"), rows)
    )


def _or(text: str, otherwise: str) -> str:
    """The text, unless all of it belongs to the case."""
    return text if re.search(r"[a-z]{3}", text) else f"({otherwise}, in the case at hand)"


def notes_page() -> str:
    """Every note that a row of a lot can carry."""
    rows = [
        (code(note.code), note.severity, note.title, note.remedy)
        for note in notes.CATALOGUE.values()
    ]
    return (
        "# Notes on the rows of a lot\n\nA note says what was read differently, what is doubtful,"
        " or why a row stays behind. `info` needs nothing, `warn` is worth a look, `error` keeps"
        " the row out.\n\n" + table(("Code", "Weight", "It means", "What to do"), rows)
    )


def reasons_page() -> str:
    """Why the gate refuses or parks."""
    rows = [(code(name), gate.remedy_for(name)) for name in gate.REASON_CODES]
    return (
        "# Reasons of the gate\n\nA refused device carries every reason that applies, not only the"
        " first.\n\n" + table(("Reason", "What a coordinator can do"), rows)
    )


# ---- languages


def filters_page() -> str:
    """The filter language."""
    attributes = [
        (code(name), one.kind.value, one.meaning, ", ".join(map(code, one.words)))
        for name, one in filters.ATTRIBUTES.items()
    ]
    comparisons = [(code(sign), said) for sign, said in words.COMPARISONS.items()]
    return (
        (HERE / "docs" / "handbook" / "reference" / "filters.intro.md").read_text()
        + "\n## Comparisons\n\n"
        + table(("Written", "Meaning"), comparisons)
        + "\n## Attributes\n\n"
        + table(("Attribute", "Kind", "Meaning", "Values"), attributes)
    )


def naming_page() -> str:
    """The naming language."""
    return (
        (HERE / "docs" / "handbook" / "reference" / "naming.intro.md").read_text()
        + "\n## Fields\n\n"
        + ", ".join(map(code, FIELDS))
        + ", and `n`, the next number of the template.\n\n## Filters\n\n"
        + ", ".join(map(code, FILTERS))
        + ".\n"
    )


# ---- roles, settings, HTTP


def roles_page() -> str:
    """What each role may."""
    rows = [
        (code(one.value), WORDS[one], *("yes" if may(role, one) else "" for role in Role))
        for one in Permission
    ]
    final = [(code(operation), remedy) for operation, remedy in sorted(FINAL.items())]
    return (
        "# Roles and permissions\n\nAn account has a role; a token has at most the role of its"
        " account. Identifiers of personal devices are shown in part to whoever lacks"
        " `see-personal`.\n\n"
        + table(("Permission", "It allows to", *(role.value for role in Role)), rows)
        + "\n## What cannot be taken back\n\nEverything else in the journal can.\n\n"
        + table(("Operation", "What to do instead"), final)
    )


def http_page() -> str:
    """Every route by its noun."""
    spec = json.loads(document())
    routes = [
        (route["tags"][0], method.upper(), path, route["description"])
        for path, methods in spec["paths"].items()
        for method, route in methods.items()
    ]
    parts = [
        "# HTTP\n\nThe service describes itself at `/api/v1/openapi.json`. Sign in with `POST"
        " /api/v1/session`, or send a token as `Authorization: Bearer …`. A `POST` may carry an"
        " `Idempotency-Key`: repeated, it gives the first answer. Lists give `Link: …;"
        ' rel="next"` for the next page. People and groups come by SCIM at `/scim/v2`.\n'
    ]
    for tag, group in groupby(sorted(routes), key=lambda route: route[0]):
        rows = [(code(f"{method} {path}"), said) for _, method, path, said in group]
        parts.append(f"\n## {tag}\n\n{table(('Route', 'What it does'), rows)}")
    return "".join(parts)


PAGES: dict[str, Callable[[], str]] = {
    "reference/commands.md": commands,
    "reference/settings.md": documentation,
    "reference/errors.md": errors_page,
    "reference/notes.md": notes_page,
    "reference/reasons.md": reasons_page,
    "reference/filters.md": filters_page,
    "reference/naming.md": naming_page,
    "reference/roles.md": roles_page,
    "reference/http.md": http_page,
}


def on_post_build(config: Any) -> None:
    """Take away what only a server of MkDocs's own needs."""
    for name in ("sitemap.xml", "sitemap.xml.gz"):
        (Path(config.site_dir) / name).unlink(missing_ok=True)
    shutil.rmtree(Path(config.site_dir) / "assets" / "javascripts" / "lunr", ignore_errors=True)
