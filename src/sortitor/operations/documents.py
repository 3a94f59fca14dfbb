"""Documents: adding, editing, removing and restoring them, with preview and journal, once for all.

A noun says what is its own in a `DocumentKind`: what must hold beside its fields, what a change
would do to the fleet, and what follows from it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Generic, TypeVar

from sortitor.core.documents import Difference, Document, differences, told
from sortitor.core.errors import Conflict, Stale
from sortitor.core.previews import Count, Example, Preview, sealed
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.store import journal
from sortitor.store.documents import Kept as Kept
from sortitor.store.documents import Shelf
from sortitor.store.engine import Connection
from sortitor.store.journal import EntryRow

D = TypeVar("D", bound=Document)
Key = int | str
#: No number has so many digits.
_TOO_LONG = 18


@dataclass(frozen=True, slots=True)
class Effect:
    """What a change of a document would do beyond itself. `facts` is what the preview's digest
    covers of it: if it moves, the preview is old.
    """

    counts: tuple[Count, ...] = ()
    examples: tuple[Example, ...] = ()
    examples_total: int = 0
    warnings: tuple[str, ...] = ()
    label: str = ""
    facts: Any = None


@dataclass(frozen=True, slots=True)
class Wanted(Generic[D]):
    """A change that somebody wants: from what is there (None: it is new) to what should be (None:
    it goes).
    """

    former: Kept[D] | None
    proposed: D | None

    @property
    def before(self) -> D | None:
        """The document as it is; None for a new one."""
        return self.former.document if self.former else None

    @property
    def number(self) -> int | None:
        """The document's number; a new one has none yet."""
        return self.former.id if self.former else None


@dataclass(frozen=True)
class DocumentKind(Generic[D]):
    """One kind of document. `noun` is what people call it and the journal's subject; `operation`
    begins the journal's operations (`pool.edit`).
    """

    noun: str
    operation: str
    shelf: Shelf[D]
    short: str = field(default="")
    #: Its previews look at the whole fleet: a standby does, where there is one.
    heavy: ClassVar[bool] = False

    # ---- what a noun says of itself

    def received(self, ctx: Context, document: D, keep: bool) -> D:
        """A document as it is kept, of one as it was sent; what it holds beside is put away where
        it is to be kept.
        """
        return document

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> None:
        """Raise what stands against a change, beyond the document's own fields."""

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> Effect:
        """What the change would do beyond the document itself."""
        return Effect()

    def hold(self, connection: Connection) -> None:
        """Take the locks that come before the document's own."""

    def beside(self, ctx: Context, wanted: Wanted[D]) -> dict[str, Any]:
        """Columns beside the document."""
        return {}

    def written(self, ctx: Context, connection: Connection, number: int, wanted: Wanted[D]) -> None:
        """What follows once a change is written, in its transaction."""

    def as_journaled(self, connection: Connection, kept: Kept[D]) -> dict[str, Any]:
        """The document as the journal keeps it."""
        return kept.document.as_json()

    def from_journal(self, value: Any) -> D:
        """The document of a journal entry's side."""
        return self.shelf.model.model_validate(value)

    def told(self, document: D) -> dict[str, Any]:
        """The document as its differences are told."""
        return document.as_json()

    def called(self, document: D) -> str:
        """The document in a sentence."""
        return f"{self.noun} “{getattr(document, 'name', '')}”"

    # ---- reading

    def every(self, ctx: Context) -> list[Kept[D]]:
        """All of them, by name."""
        with ctx.reading() as connection:
            return self.shelf.every(connection)

    def one(self, ctx: Context, key: Key) -> Kept[D]:
        """One by number or name. Raises NotFound."""
        with ctx.reading() as connection:
            return self.find(connection, key)

    def find(self, connection: Connection, key: Key, lock: bool = False) -> Kept[D]:
        """One by number or name in a transaction; a number goes before a name of digits."""
        found = None
        if is_number(key):
            found = self.shelf.one(connection, int(key), lock)
        if found is None and isinstance(key, str):
            number = self.shelf.number_of(connection, key)
            found = None if number is None else self.shelf.one(connection, number, lock)
        return or_not_found(found, self.noun, key)

    def revisions(self, ctx: Context, key: Key) -> Sequence[EntryRow]:
        """The journal's entries on one document, newest first."""
        with ctx.reading() as connection:
            return journal.of_subject(connection, self.noun, self.find(connection, key).id)

    # ---- changing

    def preview_add(self, ctx: Context, proposed: D) -> Preview:
        """What adding a document would do."""
        proposed = self.received(ctx, proposed, keep=False)
        with self._aside(ctx).reading() as connection:
            return self._preview(ctx, connection, Wanted(None, proposed))

    def preview_edit(self, ctx: Context, key: Key, proposed: D) -> Preview:
        """What a change would do: the fields that change, and what follows."""
        proposed = self.received(ctx, proposed, keep=False)
        with self._aside(ctx).reading() as connection:
            return self._preview(ctx, connection, Wanted(self.find(connection, key), proposed))

    def preview_remove(self, ctx: Context, key: Key) -> Preview:
        """What removing a document would do."""
        with self._aside(ctx).reading() as connection:
            return self._preview(ctx, connection, Wanted(self.find(connection, key), None))

    def _aside(self, ctx: Context) -> Context:
        return ctx.aside(as_now=True) if self.heavy else ctx

    def add(
        self, ctx: Context, proposed: D, digest: str | None = None, reason: str | None = None
    ) -> Kept[D]:
        """A new document; `digest` is that of its preview, where one was looked at."""
        proposed = self.received(ctx, proposed, keep=True)
        with ctx.changing() as connection:
            self.hold(connection)
            wanted = Wanted(None, proposed)
            self._agree(ctx, connection, wanted, digest)
            number = self.shelf.add(connection, proposed, **self.beside(ctx, wanted))
            self.written(ctx, connection, number, wanted)
            made = or_not_found(self.shelf.one(connection, number), self.noun, number)
            self._record(ctx, connection, "add", "added", None, made, reason)
            return made

    def edit(
        self,
        ctx: Context,
        key: Key,
        proposed: D,
        revision: int | None = None,
        digest: str | None = None,
        reason: str | None = None,
    ) -> Kept[D]:
        """Change a document; `revision` (If-Match) must be the one that was read."""
        proposed = self.received(ctx, proposed, keep=True)
        with ctx.changing() as connection:
            self.hold(connection)
            former = self.find(connection, key, lock=True)
            _require_revision(former, revision, self.called(former.document))
            wanted = Wanted(former, proposed)
            self._agree(ctx, connection, wanted, digest)
            before = self.as_journaled(connection, former)
            self.shelf.change(connection, former.id, proposed, **self.beside(ctx, wanted))
            self.written(ctx, connection, former.id, wanted)
            made = or_not_found(self.shelf.one(connection, former.id), self.noun, key)
            changes = self._changes(wanted)
            words = f"changed: {told(changes)}" if changes else "saved as it was"
            self._record(ctx, connection, "edit", words, (former, before), made, reason)
            return made

    def remove(
        self,
        ctx: Context,
        key: Key,
        revision: int | None = None,
        digest: str | None = None,
        reason: str | None = None,
    ) -> None:
        """Remove a document; reverting its journal entry brings it back."""
        with ctx.changing() as connection:
            self.hold(connection)
            former = self.find(connection, key, lock=True)
            _require_revision(former, revision, self.called(former.document))
            wanted: Wanted[D] = Wanted(former, None)
            self._agree(ctx, connection, wanted, digest)
            before = self.as_journaled(connection, former)
            self.shelf.remove(connection, former.id)
            self.written(ctx, connection, former.id, wanted)
            self._record(ctx, connection, "remove", "removed", (former, before), None, reason)

    # ---- taking back

    def is_stale(self, connection: Connection, entry: EntryRow, lock: bool) -> bool:
        """Whether the document was changed again after the entry, so that a revert would undo that
        too.
        """
        now = self.shelf.one(connection, self._number(entry), lock)
        if now is None or entry.after is None:
            return (now is None) != (entry.after is None)
        return now.document != self.from_journal(entry.after)

    def restore(self, ctx: Context, connection: Connection, entry: EntryRow) -> None:
        """Set the document back to what it was before an entry, in the revert's transaction."""
        self.hold(connection)
        number = self._number(entry)
        former = self.shelf.one(connection, number, lock=True)
        proposed = None if entry.before is None else self.from_journal(entry.before)
        wanted = Wanted(former, proposed)
        self.check(ctx, connection, wanted)
        if proposed is None:
            self.shelf.remove(connection, number)
        elif former is None:
            self.shelf.add(connection, proposed, id=number, **self.beside(ctx, wanted))
        else:
            self.shelf.change(connection, number, proposed, **self.beside(ctx, wanted))
        self.restored(connection, number, entry)
        self.written(ctx, connection, number, wanted)

    def restored(self, connection: Connection, number: int, entry: EntryRow) -> None:
        """Bring back what the journal keeps beside the document."""

    def _number(self, entry: EntryRow) -> int:
        assert entry.subject_id is not None
        return entry.subject_id

    def _agree(
        self, ctx: Context, connection: Connection, wanted: Wanted[D], digest: str | None
    ) -> None:
        """Check the change; with a digest, it must be the one that was previewed."""
        if digest is not None:
            require_digest(self._preview(ctx, connection, wanted), digest)
        else:
            self._check(ctx, connection, wanted)

    def _check(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> None:
        if wanted.proposed is not None:
            wanted.proposed.check()
        self.check(ctx, connection, wanted)

    def _preview(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> Preview:
        self._check(ctx, connection, wanted)
        effect = self.effect(ctx, connection, wanted)
        verb = _verb(wanted)
        shown = wanted.proposed or wanted.before
        assert shown is not None
        preview = Preview(
            title=f"{verb} {self.called(shown)}",
            apply_label=effect.label or f"{verb} the {self.short or self.noun}",
            counts=effect.counts,
            examples=effect.examples,
            examples_total=effect.examples_total,
            warnings=effect.warnings,
            changes=self._changes(wanted),
        )
        return sealed(
            preview,
            [
                self.noun,
                wanted.number,
                wanted.former and wanted.former.revision,
                wanted.proposed and wanted.proposed.as_json(),
                effect.facts,
            ],
        )

    def _changes(self, wanted: Wanted[D]) -> tuple[Difference, ...]:
        """What becomes of the fields of a document that stays."""
        if wanted.before is None or wanted.proposed is None:
            return ()
        return differences(self.told(wanted.before), self.told(wanted.proposed))

    def _record(
        self,
        ctx: Context,
        connection: Connection,
        act: str,
        words: str,
        former: tuple[Kept[D], dict[str, Any]] | None,
        made: Kept[D] | None,
        reason: str | None,
    ) -> None:
        shown = made or (former and former[0])
        assert shown is not None
        name = self.called(shown.document)
        ctx.record(
            connection,
            f"{self.operation}.{act}",
            self.noun,
            f"{name[:1].upper()}{name[1:]} {words}",
            subject_id=shown.id,
            reason=reason,
            before=former and former[1],
            after=None if made is None else self.as_journaled(connection, made),
        )


def _verb(wanted: Wanted[D]) -> str:
    if wanted.former is None:
        return "Add"
    return "Remove" if wanted.proposed is None else "Change"


def _require_revision(former: Kept[D], revision: int | None, what: str) -> None:
    if revision is not None and revision != former.revision:
        raise Stale(what)


def is_number(key: Key) -> bool:
    """Whether a key can be a number: digits of the Latin script, as the service gives them."""
    return isinstance(key, int) or (key.isascii() and key.isdecimal() and len(key) < _TOO_LONG)


def refuse_other_kind(what: str, kind: str) -> Conflict:
    """The error of a document that would become of another kind."""
    return Conflict("other_kind", f"{what} is {kind}; it stays what it is.", "Add another one.")
