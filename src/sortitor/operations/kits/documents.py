"""Items, kits, setup sheets and checklists as documents."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from hashlib import sha256
from typing import Any, TypeVar

import rfc8785

from sortitor.core.errors import BadInput, Conflict, FieldProblem
from sortitor.core.filters import lower
from sortitor.core.kits.checklists import Checklist
from sortitor.core.kits.documents import Kit
from sortitor.core.kits.items import Item, NetworkPayload, SettingPayload
from sortitor.core.kits.own_settings import OwnSetting
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.previews import listed
from sortitor.core.vocabulary import Giving, Security
from sortitor.operations.context import Context
from sortitor.operations.documents import DocumentKind, Effect, Key, Wanted
from sortitor.operations.kits import effects
from sortitor.operations.kits.files import check_kept
from sortitor.operations.kits.library import NEW, OWN, SHELVES, library
from sortitor.store import kits as store
from sortitor.store.engine import Connection
from sortitor.store.settling import hold_still, mark_anew

D = TypeVar("D", Item, Kit, SetupSheet, Checklist)


@dataclass(frozen=True)
class Given(DocumentKind[D]):
    """A kind of document that is given to cohorts, and whose change is felt by devices."""

    kind: Giving = Giving.KIT

    def hold(self, connection: Connection) -> None:
        """Whoever changes what is given waits for this lock before anything else."""
        hold_still(connection)

    def told(self, document: D) -> dict[str, Any]:
        """Whom it is given to is told one by one."""
        given = {one.cohort or "everyone": one.word.value for one in document.given}
        return {**document.as_json(), "given": given}

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> None:
        """Whatever it names is there."""
        if wanted.proposed is not None:
            library(connection).check_names(wanted.proposed)

    def effect(self, ctx: Context, connection: Connection, wanted: Wanted[D]) -> Effect:
        """Which devices would gain, lose or change what."""
        before, number = library(connection), wanted.number or NEW
        after = before.changed(self.kind, number, wanted.proposed)
        return effects.effect_of(ctx, connection, before, after, self.kind, number)

    def written(self, ctx: Context, connection: Connection, number: int, wanted: Wanted[D]) -> None:
        """What devices get follows at once."""
        effects.write(connection, self.kind, number, wanted.former)


#: What stands in an item where its secret was: by it the secret is found.
_MARK = "kept:"


class Items(Given[Item]):
    """Items as documents. Their secrets are kept apart, encrypted, and never shown again."""

    def received(self, ctx: Context, document: Item, keep: bool) -> Item:
        """The secret of a network is put away, and a mark stands where it was."""
        payload = document.payload
        if not isinstance(payload, NetworkPayload) or payload.secret is None:
            return document
        document.check()
        if payload.secret.startswith(_MARK):
            with ctx.reading() as connection:
                if store.secret(connection, payload.secret) is None:
                    raise _lost()
            return document
        mark = _MARK + ctx.vault.mark(payload.secret.encode())
        if keep:
            with ctx.bookkeeping() as connection:
                sealed = ctx.vault.seal(payload.secret.encode())
                store.keep_secret(connection, mark, sealed, ctx.now)
        hidden = payload.model_copy(update={"secret": mark})
        return document.model_copy(update={"payload": hidden})

    def beside(self, ctx: Context, wanted: Wanted[Item]) -> dict[str, Any]:
        """What devices are sent of it, as a digest."""
        assert wanted.proposed is not None
        return {"content": wanted.proposed.content}

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[Item]) -> None:
        """It can be what it says; an item that something names stays, and keeps its name."""
        super().check(ctx, connection, wanted)
        found = library(connection)
        if wanted.proposed is not None:
            wanted.proposed.check_by(found.catalogue, ctx.today)
            check_kept(connection, wanted.proposed.files(found.catalogue))
        former = wanted.before
        if former is None or (
            wanted.proposed is not None and lower(wanted.proposed.name) == lower(former.name)
        ):
            return
        naming = [
            f"{kind} “{kept.document.name}”"
            for kind in (Giving.KIT, Giving.CHECKLIST, Giving.SHEET)
            for kept in found.documents[kind].values()
            if lower(former.name) in map(lower, named_by(kept.document))
        ]
        if naming:
            what = "removed" if wanted.proposed is None else "renamed"
            verb = "names" if len(naming) == 1 else "name"
            raise Conflict(
                "in_use",
                f"Item “{former.name}” cannot be {what}: {listed(naming[:5])} {verb} it.",
                "Take it out of those first.",
            )


def named_by(document: Kit | Checklist | SetupSheet) -> Sequence[str]:
    """The items that a document names."""
    if isinstance(document, SetupSheet):
        return [document.joins] if document.joins else []
    return document.items


class OwnSettings(DocumentKind[OwnSetting]):
    """What an organisation adds to the catalogue."""

    def hold(self, connection: Connection) -> None:
        """Whoever changes what can be set waits for this lock before anything else."""
        hold_still(connection)

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[OwnSetting]) -> None:
        """One key each; what an item sets stays what it is."""
        found, former, proposed = library(connection), wanted.before, wanted.proposed
        keeps = former and former.key
        if proposed is not None and proposed.key != keeps and proposed.key in found.own:
            words = f"There is already a setting {proposed.key!r}."
            problem = FieldProblem("/key", "key_taken", words)
            raise BadInput("key_taken", words, "Choose another key.", (problem,))
        if former is None or (proposed is not None and _same_values(former, proposed)):
            return
        setting = [
            f"item “{kept.document.name}”"
            for kept in found.documents[Giving.ITEM].values()
            if isinstance(kept.document.payload, SettingPayload)
            and kept.document.payload.setting == former.key
        ]
        if setting:
            what = "removed" if proposed is None else "made another one"
            verb = "sets" if len(setting) == 1 else "set"
            raise Conflict(
                "in_use",
                f"Setting “{former.name}” cannot be {what}: {listed(setting[:5])} {verb} it.",
                "Change those first.",
            )

    def written(
        self, ctx: Context, connection: Connection, number: int, wanted: Wanted[OwnSetting]
    ) -> None:
        """Every process reads the catalogue again."""
        mark_anew(connection)


def _same_values(one: OwnSetting, other: OwnSetting) -> bool:
    """Whether items set the same by both."""
    fields = {"name", "theme", "says", "unit"}
    return one.model_dump(exclude=fields) == other.model_dump(exclude=fields)


def _lost() -> BadInput:
    words = "The shared secret is not kept here any more."
    problem = FieldProblem("/payload/secret", "secret_lost", words)
    return BadInput("secret_lost", words, "Give the secret itself.", (problem,))


def opened(ctx: Context, connection: Connection, item: Item) -> Item:
    """An item with its secret in clear, for the device that gets it."""
    payload = item.payload
    if not isinstance(payload, NetworkPayload) or payload.secret is None:
        return item
    sealed = store.secret(connection, payload.secret)
    if sealed is None:
        raise _lost()
    clear = payload.model_copy(update={"secret": ctx.vault.open(sealed).decode()})
    return item.model_copy(update={"payload": clear})


ITEMS = Items("item", "item", SHELVES[Giving.ITEM], kind=Giving.ITEM)
OWN_SETTINGS = OwnSettings("setting of your own", "setting", OWN, short="setting")
KITS = Given[Kit]("kit", "kit", SHELVES[Giving.KIT], kind=Giving.KIT)
SHEETS = Given[SetupSheet](
    "setup sheet", "sheet", SHELVES[Giving.SHEET], short="sheet", kind=Giving.SHEET
)
CHECKLISTS = Given[Checklist](
    "checklist", "checklist", SHELVES[Giving.CHECKLIST], kind=Giving.CHECKLIST
)


def exported(ctx: Context, key: Key) -> tuple[dict[str, Any], str]:
    """A sheet as a source carries it, with the SHA-256 of its JSON (RFC 8785)."""
    sheet = SHEETS.one(ctx, key).document.exported()
    return sheet, sha256(rfc8785.dumps(sheet)).hexdigest()


def joined(ctx: Context, key: Key) -> NetworkPayload:
    """A network with its secret in clear, for somebody who has to join it by hand; the journal
    tells of the look. Raises Conflict for what is no network, or has no secret to join by.
    """
    with ctx.changing() as connection:
        kept = ITEMS.find(connection, key)
        name, payload = kept.document.name, opened(ctx, connection, kept.document).payload
        if not isinstance(payload, NetworkPayload):
            what = f"Item “{name}” is no network."
            raise Conflict("no_network", what, "Choose an item that is one.")
        if payload.security not in (Security.OPEN, Security.SECRET):
            what = f"“{payload.ssid}” is not joined by a code."
            raise Conflict("no_code", what, "Let the person sign in at the device.")
        if payload.secret is not None:
            words = f"The shared secret of item “{name}” was looked at"
            ctx.record(connection, "item.look", "item", words, subject_id=kept.id)
        return payload
