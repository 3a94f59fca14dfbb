"""Sources as documents."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sortitor.core.errors import Conflict
from sortitor.core.previews import Count
from sortitor.core.selection import Selection
from sortitor.core.sources import Source
from sortitor.core.vocabulary import SecretKind
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Wanted, refuse_other_kind
from sortitor.operations.selections import resolve_selection
from sortitor.store import accounts, devices, tables
from sortitor.store import sources as store
from sortitor.store.documents import Shelf
from sortitor.store.engine import Connection

#: Fields that say where a source is: what opens the one place is not shown to another.
_PLACE = ("address", "starttls", "authority")


class Sources(DocumentKind[Source]):
    """Sources as documents."""

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Source]) -> None:
        """A source stays of its kind."""
        if wanted.before and wanted.proposed and wanted.before.kind is not wanted.proposed.kind:
            raise refuse_other_kind(self.called(wanted.before), f"a {wanted.before.kind}")
        if wanted.number is not None and not (wanted.proposed and wanted.proposed.signs_in_by):
            _refuse_if_accounts(accounts.of_directory(connection, wanted.number))

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[Source]) -> Effect:
        """What is known of it, and how many devices it should know."""
        known = None if wanted.number is None else store.held_by(connection, wanted.number)
        held = known.devices if known else 0
        people = known.people if known else 0
        if wanted.proposed is None:
            forgotten = "What it is opened with is forgotten; a revert does not bring it back."
            return Effect(
                counts=(
                    Count("devices", "devices of its roster, forgotten", held, "warn"),
                    Count("people", "people of it, who stay as they are", people),
                ),
                warnings=(forgotten, *_nobody_signs_in(wanted)),
                facts=[held, people],
            )
        counts = [
            Count("devices", "devices it knows", held),
            Count("people", "people it knows", people),
        ]
        if wanted.proposed.covers:
            expected = _expected(ctx, connection, wanted.proposed.covers)
            counts.append(Count("covered", "devices that it should know", expected))
        return Effect(
            counts=tuple(counts),
            warnings=_warnings(wanted),
            facts=[count.count for count in counts],
        )

    def written(
        self, ctx: Context, connection: Connection, number: int, wanted: Wanted[Source]
    ) -> None:
        """What opens one place is not shown to another; and a source that is read in another way
        is read whole.
        """
        if wanted.before is None or wanted.proposed is None:
            return
        if is_elsewhere(wanted.before, wanted.proposed):
            kinds = list(SecretKind)
            store.drop_secrets(connection, number, kinds, waiting=False)
            store.drop_secrets(connection, number, kinds, waiting=True)
        if wanted.before != wanted.proposed:
            store.note_read(connection, number, {"cursor": None, "etag": None, "whole_at": None})


def _refuse_if_accounts(names: Sequence[str]) -> None:
    if names:
        listed = ", ".join(names[:5]) + (" …" if len(names) > 5 else "")
        raise Conflict(
            "accounts_by_it",
            f"Accounts sign in with this directory's password: {listed}.",
            "Give them passwords of their own first.",
        )


def _nobody_signs_in(wanted: Wanted[Source]) -> Iterator[str]:
    before, proposed = wanted.before, wanted.proposed
    if before and before.signs_in_by and not (proposed and proposed.signs_in_by):
        yield (
            "Its people sign in with its password no longer: passes and policies that ask for it"
            " let in only those of other directories."
        )


def is_elsewhere(before: Source, proposed: Source) -> bool:
    """Whether a source would be asked at another place, or in a way that others could listen to."""
    return any(getattr(before, name) != getattr(proposed, name) for name in ("kind", *_PLACE))


def _expected(ctx: Context, connection: Connection, covers: str) -> int:
    chosen = Selection(filter=ctx.veil.parse(covers))
    return devices.count(connection, resolve_selection(connection, chosen), ctx.now)


def _warnings(wanted: Wanted[Source]) -> tuple[str, ...]:
    said = []
    proposed = wanted.proposed
    assert proposed is not None
    if not proposed.encrypted:
        said.append("Nothing of this connection is encrypted: a password can be read on its way.")
    if wanted.before is not None and is_elsewhere(wanted.before, proposed):
        said.append("It is another place now: what opened the former one is forgotten.")
    said += _nobody_signs_in(wanted)
    if wanted.before is not None:
        said.append("Preview its next run to see what another scope does.")
    return tuple(said)


SOURCES = Sources("source", "source", Shelf(Source, tables.sources))
