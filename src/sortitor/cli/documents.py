"""The commands of every kind of document: list, show, add, edit, remove, revisions.

Their options are made from the fields of the document's own model.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from enum import StrEnum
from types import UnionType
from typing import Annotated, Any, TypeVar, Union, get_args, get_origin

import click
from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from sortitor.cli.connection import with_client
from sortitor.cli.output import (
    ExitCode,
    agree,
    change_options,
    most_option,
    output_option,
    quoted,
    talk,
    write,
    write_one,
)
from sortitor.cli.tables import Columns
from sortitor.client import Sortitor
from sortitor.client.documents import Documents
from sortitor.core.documents import Document
from sortitor.schemas.documents import Revision

Command = TypeVar("Command", bound=Callable[..., Any])
Reader = Callable[[str], Any]


@dataclass(frozen=True)
class Noun:
    """What the commands of one kind of document need to know.

    `options` gives a field another option than its own name; `readers` reads the text of a field
    that is no plain value (repeatable); `metavars` says its form. `detail` prints one document,
    `after` says the next command.
    """

    group: click.Group
    word: str
    calls: Callable[[Sortitor], Documents[Any, Any]]
    model: type[Document]
    columns: Columns
    after: Callable[[Any], str]
    detail: Callable[[Sortitor, Any], None]
    empty: str
    examples: Mapping[str, str]
    below: Sequence[str] = ()
    first_to_go: Sequence[str] = ()
    options: Mapping[str, str] = field(default_factory=dict)
    readers: Mapping[str, Reader] = field(default_factory=dict)
    #: What becomes of the values that a repeatable option was given; else they are kept as a list.
    gather: Mapping[str, Callable[[tuple[Any, ...]], Any]] = field(default_factory=dict)
    metavars: Mapping[str, str] = field(default_factory=dict)
    #: Whether one needs a hand; a list with such a one ends with its exit code.
    has_findings: Callable[[Any], bool] = lambda found: False
    #: What a list says of all of them, by its first.
    remark: Callable[[Any], str] = lambda first: ""
    #: One of them and many of them in a sentence, where `a word` and `words` will not do.
    one: str = ""
    many: str = ""

    @property
    def a(self) -> str:
        """One of them."""
        return self.one or f"a {self.word}"


def add_commands(noun: Noun) -> None:
    """Give the group its commands."""
    for make in (_list, _show, _add, _edit, _remove, _revisions):
        make(noun)


def _help(noun: Noun, verb: str, text: str) -> str:
    return f"{text}\n\n\b\nExample:\n  {noun.examples[verb]}"


def _list(noun: Noun) -> None:
    text = f"List {noun.many or noun.word + 's'} by name."

    @noun.group.command("list", help=_help(noun, "list", text))
    @most_option
    @output_option
    @with_client
    def every(s: Sortitor, most: int, output: str) -> None:
        items = noun.calls(s).list()
        hint = ""
        if first := next(iter(items), None):
            next_step = f"Next: sortitor {noun.group.name} show {quoted(first.name)}"
            hint = "\n".join(filter(None, (noun.remark(first), next_step)))
        found = write(
            items,
            output,
            noun.columns,
            hint=hint,
            empty=noun.empty,
            most=most,
            below=noun.below,
            first_to_go=noun.first_to_go,
        )
        if any(map(noun.has_findings, found)):
            raise click.exceptions.Exit(ExitCode.FINDINGS)


def _show(noun: Noun) -> None:
    text = f"Show {noun.a}, by number or name."

    @noun.group.command("show", help=_help(noun, "show", text))
    @click.argument("name")
    @output_option
    @with_client
    def show(s: Sortitor, name: str, output: str) -> None:
        found = noun.calls(s).show(name)
        if output == "table":
            noun.detail(s, found)
        else:
            write_one(found, output)


def _add(noun: Noun) -> None:
    @noun.group.command("add", help=_help(noun, "add", f"Add {noun.a}."))
    @click.argument("name")
    @_field_options(noun)
    @change_options
    @with_client
    def add(s: Sortitor, name: str, yes: bool, reason: str | None, **given: Any) -> None:
        calls = noun.calls(s)
        document = _document(noun, {**_stated(noun, given), "name": name})
        preview = calls.preview_add(document)
        agree(preview, yes)
        made = calls.add(document, preview.digest, reason)
        click.echo(made.id)
        talk(f"Added. Next: {noun.after(made)}")


def _edit(noun: Noun) -> None:
    text = f"Change {noun.a}: what is named, and nothing else."

    @noun.group.command("edit", help=_help(noun, "edit", text))
    @click.argument("name")
    @click.option("--name", "new_name", help="Another name.")
    @_field_options(noun)
    @click.option(
        "--clear",
        "cleared",
        multiple=True,
        type=click.Choice(_clearable(noun)),
        help="Take a value away; repeatable.",
    )
    @change_options
    @with_client
    def edit(
        s: Sortitor,
        name: str,
        new_name: str | None,
        cleared: Sequence[str],
        yes: bool,
        reason: str | None,
        **given: Any,
    ) -> None:
        calls = noun.calls(s)
        found = calls.show(name)
        changes = {**_stated(noun, given), **_emptied(noun, cleared)}
        if new_name:
            changes["name"] = new_name
        if not changes:
            raise click.UsageError("Name what is to be changed; see --help.")
        document = _document(noun, {**_fields_of(noun, found), **changes})
        preview = calls.preview_edit(found.id, document)
        agree(preview, yes)
        made = calls.edit(found.id, document, preview.digest, reason, found.revision)
        talk(f"Changed. Next: {noun.after(made)}")


def _remove(noun: Noun) -> None:
    text = f"Remove {noun.a}; reverting its journal entry brings it back."

    @noun.group.command("remove", help=_help(noun, "remove", text))
    @click.argument("name")
    @change_options
    @with_client
    def remove(s: Sortitor, name: str, yes: bool, reason: str | None) -> None:
        calls = noun.calls(s)
        preview = calls.preview_remove(name)
        agree(preview, yes)
        calls.remove(name, preview.digest, reason)
        talk("Removed. Next: sortitor journal list --most 1")


def _revisions(noun: Noun) -> None:
    text = f"List what was changed of {noun.a}, newest first."

    @noun.group.command("revisions", help=_help(noun, "revisions", text))
    @click.argument("name")
    @output_option
    @with_client
    def revisions(s: Sortitor, name: str, output: str) -> None:
        columns: Columns = {
            "Id": lambda row: row.id,
            "At": lambda row: row.at,
            "By": lambda row: row.actor,
            "What": lambda row: row.summary,
            "Why": lambda row: row.reason,
            "Reverted by": lambda row: row.reverted_by,
        }
        found: Sequence[Revision] = noun.calls(s).revisions(name)
        hint = "Next: sortitor journal revert ID"
        write(found, output, columns, hint=hint, below=["What", "Why"])


# ---- options out of fields


def _fields(noun: Noun) -> dict[str, FieldInfo]:
    return {name: info for name, info in noun.model.model_fields.items() if name != "name"}


def _field_options(noun: Noun) -> Callable[[Command], Command]:
    def add_options(command: Command) -> Command:
        for name, info in reversed(_fields(noun).items()):
            command = _option(noun, name, info)(command)
        return command

    return add_options


def _option(noun: Noun, name: str, info: FieldInfo) -> Callable[[Command], Command]:
    flag = noun.options.get(name, f"--{name.replace('_', '-')}")
    words = info.description or ""
    if name in noun.readers:
        return click.option(
            flag, name, multiple=True, metavar=noun.metavars.get(name), help=f"{words} Repeatable."
        )
    kind, several = _plain(info.annotation)
    if kind is bool:
        pair = flag if "/" in flag else f"{flag}/--no-{flag.removeprefix('--')}"
        return click.option(pair, name, default=None, help=words)
    if several:
        return click.option(
            flag, name, multiple=True, type=_type(kind), help=f"{words} Repeatable."
        )
    return click.option(flag, name, type=_type(kind), help=words)


def _plain(annotation: Any) -> tuple[Any, bool]:
    """The kind of value behind an annotation, and whether there are several."""
    origin = get_origin(annotation)
    if origin is Annotated:
        return _plain(get_args(annotation)[0])
    if origin in (Union, UnionType):
        return _plain(next(part for part in get_args(annotation) if part is not type(None)))
    if origin in (tuple, list):
        return _plain(get_args(annotation)[0])[0], True
    return annotation, False


def _type(kind: Any) -> Any:
    if isinstance(kind, type) and issubclass(kind, StrEnum):
        return click.Choice([word.value for word in kind])
    if kind is date:
        return click.DateTime(["%Y-%m-%d"])
    return int if kind is int else str


def _clearable(noun: Noun) -> list[str]:
    """Fields that may be without a value."""
    return [
        name.replace("_", "-") for name, info in _fields(noun).items() if not info.is_required()
    ]


def _stated(noun: Noun, given: Mapping[str, Any]) -> dict[str, Any]:
    """The fields that options were given for."""
    stated = {}
    for name, value in given.items():
        if value is None or value == ():
            continue
        if name in noun.readers:
            gathered = noun.gather.get(name, tuple)
            value = gathered(tuple(noun.readers[name](text) for text in value))
        stated[name] = value.date() if isinstance(value, datetime) else value
    return stated


def _emptied(noun: Noun, cleared: Sequence[str]) -> dict[str, Any]:
    names = [name.replace("-", "_") for name in cleared]
    return {name: noun.model.model_fields[name].get_default() for name in names}


def _fields_of(noun: Noun, found: BaseModel) -> dict[str, Any]:
    return {name: getattr(found, name) for name in noun.model.model_fields}


def _document(noun: Noun, values: Mapping[str, Any]) -> Document:
    try:
        return noun.model.model_validate(values)
    except ValidationError as error:
        raise click.UsageError(_faults(noun, error)) from error


def _faults(noun: Noun, error: ValidationError) -> str:
    lines = []
    for fault in error.errors():
        name = str(fault["loc"][0]) if fault["loc"] else ""
        flag = noun.options.get(name, f"--{name.replace('_', '-')}")
        missing = fault["type"] == "missing"
        lines.append(f"{flag} is missing." if missing else f"{flag}: {fault['msg']}.")
    return " ".join(lines)
