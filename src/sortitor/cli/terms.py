"""`sortitor terms`: what people accept at the door."""

from __future__ import annotations

from pathlib import Path

import click

from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import most_option, output_option, plain, record, talk, write
from sortitor.client import Sortitor
from sortitor.core.terms import Terms, TermsText
from sortitor.schemas.terms import TermsDetail


@click.group()
def terms() -> None:
    """What people accept at the door: versions and languages."""


def _text(text: str) -> TermsText:
    """`de=terms-de.md`: a language and the file with its text."""
    language, _, file = text.partition("=")
    try:
        return TermsText(language=language, text=Path(file).read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise click.BadParameter(
            f"{text!r} is not of the form LANGUAGE=FILE ({error})", param_hint="--text"
        ) from error


def _detail(s: Sortitor, found: TermsDetail) -> None:
    record(
        [
            ("Terms", f"{found.id}  {found.name}"),
            ("Version", found.revision),
            ("Written as", found.form),
            ("Note", found.note),
        ]
    )
    for one in found.texts:
        talk("")
        plain(f"{one.language}:")
        plain(one.text)


add_commands(
    Noun(
        group=terms,
        word="terms",
        one="terms",
        many="terms",
        calls=lambda s: s.terms,
        model=Terms,
        columns={
            "Id": lambda t: t.id,
            "Terms": lambda t: t.name,
            "Version": lambda t: t.revision,
            "Languages": lambda t: [one.language for one in t.texts],
            "Note": lambda t: t.note,
        },
        options={"texts": "--text"},
        readers={"texts": _text},
        metavars={"texts": "LANGUAGE=FILE"},
        detail=_detail,
        after=lambda made: f'sortitor terms show "{made.name}"',
        empty="No terms yet. Next: sortitor terms add NAME --text en=FILE",
        examples={
            "list": "sortitor terms list",
            "show": 'sortitor terms show "House rules"',
            "add": 'sortitor terms add "House rules" --text en=rules.md --form markdown',
            "edit": 'sortitor terms edit "House rules" --text en=rules.md --text de=regeln.md',
            "remove": 'sortitor terms remove "House rules"',
            "revisions": 'sortitor terms revisions "House rules"',
        },
    )
)


@terms.command("acceptances")
@click.argument("name")
@most_option
@output_option
@with_client
def list_acceptances(s: Sortitor, name: str, most: int, output: str) -> None:
    """List who accepted the terms, in whichever version, newest first.

    \b
    Examples:
      sortitor terms acceptances "House rules"
      sortitor terms acceptances "House rules" -o csv > accepted.csv
    """
    write(
        s.terms.acceptances(name, most + 1),
        output,
        {
            "At": lambda a: a.at,
            "Version": lambda a: a.revision,
            "Language": lambda a: a.language,
            "Person": lambda a: a.person_name or a.person,
            "Device": lambda a: a.device_id and str(a.device_id),
        },
        empty="Nobody has accepted them yet.",
        most=most,
    )
