"""Terms: documents that must be accepted at the door, shown clean of everything active."""

from __future__ import annotations

import html

import nh3
from markdown_it import MarkdownIt

from sortitor.core.errors import Conflict
from sortitor.core.gate import Gate
from sortitor.core.terms import Form, Terms
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Key, Wanted
from sortitor.store import arrivals as store
from sortitor.store import tables
from sortitor.store.arrivals import AcceptanceRow
from sortitor.store.documents import Shelf
from sortitor.store.engine import Connection

_MARKDOWN = MarkdownIt("commonmark", {"html": False})
#: What a text may be made of; nothing of it loads, runs or looks like the page's own controls.
_TAGS = {
    *("a", "b", "blockquote", "br", "code", "em", "h1", "h2", "h3", "h4", "hr", "i", "li", "ol"),
    *("p", "pre", "s", "strong", "sub", "sup", "table", "tbody", "td", "th", "thead", "tr", "u"),
    "ul",
}


class TermsBook(DocumentKind[Terms]):
    """Terms as documents; each change of one is a new version of it."""

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Terms]) -> None:
        """Terms that the gate asks for stay, and keep their name."""
        former, proposed = wanted.before, wanted.proposed
        if former is None or (proposed is not None and proposed.name == former.name):
            return
        gate = Shelf(Gate, tables.rulebooks).one(connection, 1)
        asking = [
            policy.name
            for policy in (gate.document.policies if gate else ())
            for facets in (policy, *policy.platforms.values())
            if former.name.casefold() in (name.casefold() for name in facets.terms or ())
        ]
        if asking:
            raise Conflict(
                "in_use",
                f"The gate asks for the terms “{former.name}” (policy “{asking[0]}”).",
                "Take them out of the gate first.",
            )


TERMS = TermsBook("terms", "terms", Shelf(Terms, tables.terms))


def acceptances(ctx: Context, key: Key, before: int | None, limit: int) -> list[AcceptanceRow]:
    """Who accepted these terms, in whichever version, newest first."""
    with ctx.reading() as connection:
        name = TERMS.find(connection, key).document.name
        return store.acceptances_page(connection, name, before, limit)


def as_html(terms: Terms, language: str | None) -> tuple[str, str]:
    """The text in a language (or the nearest there is) as clean HTML, with its language."""
    found, text = terms.text_in(language)
    if terms.form is Form.TEXT:
        parts = [html.escape(part.strip()) for part in text.split("\n\n") if part.strip()]
        return found, "".join(f"<p>{part.replace(chr(10), '<br>')}</p>" for part in parts)
    raw = _MARKDOWN.render(text) if terms.form is Form.MARKDOWN else text
    return found, nh3.clean(
        raw,
        tags=_TAGS,
        attributes={"a": {"href"}},
        url_schemes={"https", "http", "mailto", "tel"},
        link_rel="noopener noreferrer",
    )
