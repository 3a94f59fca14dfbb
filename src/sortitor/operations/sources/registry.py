"""A supplier's registry: what it holds, and letting it assign, release, carry a sheet, bring in."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import rfc8785

from sortitor.core.errors import BadInput, Conflict
from sortitor.core.previews import Count, Example, Preview, plural, sealed
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Gap, RegistryAct, SourceKind
from sortitor.operations.context import Context, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.sources.documents import SOURCES
from sortitor.operations.sources.ports import Done, Held, Secrets
from sortitor.operations.sources.secrets import secrets_of
from sortitor.store import journal, rosters
from sortitor.store.documents import Kept
from sortitor.store.levels import GapRow

MOST_AT_ONCE = 10_000
_MOST_FOUND = 200
_EXAMPLES = 50
_SHEET_BYTES = 200_000

LABELS: dict[RegistryAct, str] = {
    RegistryAct.ASSIGN: "Assign to this server",
    RegistryAct.UNASSIGN: "Take from this server",
    RegistryAct.RELEASE: "Release for good",
    RegistryAct.SET_SHEET: "Give the setup sheet",
    RegistryAct.CLEAR_SHEET: "Clear the setup sheet",
    RegistryAct.BRING_IN: "Bring into the registry",
}


@dataclass(frozen=True, slots=True)
class Act:
    """What a registry is to do with which devices: by their numbers there, by serial numbers, or
    all that a reseller delivered.
    """

    act: RegistryAct
    keys: tuple[str, ...] = ()
    reseller: str | None = None
    sheet: Mapping[str, Any] | None = None

    def check(self) -> None:
        """Raise BadInput for what is not a thing to be done."""
        if not self.keys and not self.reseller:
            raise BadInput("no_devices", "No device is named.", "Name devices or a reseller.")
        if len(self.keys) > MOST_AT_ONCE:
            raise BadInput(
                "too_many", f"At most {MOST_AT_ONCE:,} devices at once.", "Do it in parts."
            )
        if self.reseller and self.act is not RegistryAct.ASSIGN:
            raise BadInput(
                "not_by_reseller", "Only assigning goes by reseller.", "Name the devices."
            )
        if (self.act is RegistryAct.SET_SHEET) != (self.sheet is not None):
            raise BadInput("sheet", "A sheet goes with giving one.", "Give the sheet's JSON.")
        if self.sheet is not None and len(json.dumps(self.sheet)) > _SHEET_BYTES:
            raise BadInput("sheet_too_long", "The sheet is over 200 kB.", "Shorten it.")


def sheet_digest(sheet: Mapping[str, Any]) -> str:
    """SHA-256 over the canonical JSON of a sheet (RFC 8785)."""
    return hashlib.sha256(rfc8785.dumps(dict(sheet))).hexdigest()


def _opened(ctx: Context, key: Key) -> tuple[Kept[Source], Secrets]:
    with ctx.reading() as connection:
        kept = SOURCES.find(connection, key)
        if kept.document.kind is not SourceKind.REGISTRY:
            raise Conflict(
                "no_registry",
                f"“{kept.document.name}” is a {kept.document.kind}.",
                "Choose a registry.",
            )
        return kept, secrets_of(ctx, connection, kept.id)


def find(ctx: Context, key: Key, query: str) -> list[Held]:
    """What the registry holds under a serial number, IMEI, order or reseller, newest first."""
    kept, secrets = _opened(ctx, key)
    return ctx.outside.find(kept.document, secrets, query.strip(), _MOST_FOUND)


def preview(ctx: Context, key: Key, wanted: Act) -> Preview:
    """What the registry would be asked to do."""
    wanted.check()
    kept, secrets = _opened(ctx, key)
    return _plan(ctx, kept, secrets, wanted)


def _plan(ctx: Context, kept: Kept[Source], secrets: Secrets, wanted: Act) -> Preview:
    done = ctx.outside.act(
        kept.document, secrets, wanted.act, wanted.keys, _what(wanted), trying=True
    )
    number = done.count
    tone = "bad" if wanted.act is RegistryAct.RELEASE else "good"
    warnings = [f"{words}: {key}" for key, words in list(done.refused.items())[:_EXAMPLES]]
    if wanted.act is RegistryAct.RELEASE:
        warnings.insert(
            0, "Releasing is final: only the reseller can bring a device back into the registry."
        )
    verb = LABELS[wanted.act]
    shown = Preview(
        title=f"{verb}: {plural(number, 'device')} of “{kept.document.name}”",
        apply_label=f"{verb} ({plural(number, 'device')})",
        counts=(
            Count("done", "devices", number, tone),
            Count("refused", "refused by the registry", len(done.refused), "warn"),
        ),
        examples=tuple(Example(key, "registry", None, wanted.act) for key in done.keys[:_EXAMPLES]),
        examples_total=number,
        warnings=tuple(warnings),
        # Whom a reseller delivers to is settled before it has delivered anything.
        nothing_to_do=number == 0 and not wanted.reseller,
    )
    return sealed(shown, [kept.id, wanted.act, sorted(done.keys), sorted(done.refused)])


def _what(wanted: Act) -> dict[str, Any]:
    if wanted.sheet is not None:
        return {"sheet": dict(wanted.sheet), "digest": sheet_digest(wanted.sheet)}
    return {"reseller": wanted.reseller} if wanted.reseller else {}


def act(ctx: Context, key: Key, wanted: Act, digest: str, reason: str | None) -> Preview:
    """Let the registry do as previewed; the next run confirms it."""
    wanted.check()
    kept, secrets = _opened(ctx, key)
    plan = _plan(ctx, kept, secrets, wanted)
    require_digest(plan, digest)
    done = ctx.outside.act(
        kept.document, secrets, wanted.act, wanted.keys, _what(wanted), trying=False
    )
    _note(ctx, kept, wanted.act, done, reason)
    return plan


def _note(
    ctx: Context, kept: Kept[Source], what: RegistryAct, done: Done, reason: str | None
) -> None:
    """One entry, which shows in the timelines of the devices that are known here. It says no
    numbers: a device may be erased, and those of others are nobody's business.
    """
    with ctx.changing() as connection:
        entry = ctx.record(
            connection,
            "registry.act",
            "source",
            f"{LABELS[what]}: {plural(done.count, 'device')} at “{kept.document.name}”",
            subject_id=kept.id,
            reason=reason,
            after={"act": what, "done": done.count, "refused": len(done.refused)},
        )
        journal.touch(connection, entry, rosters.called(connection, kept.id, done.keys), {})


def tell_gaps(
    ctx: Context, kept: Kept[Source], rows: Sequence[GapRow], reason: str | None
) -> list[int]:
    """Tell a registry what is retired here, or missing there; gives the disagreements about which
    it was told.
    """
    with ctx.reading() as connection:
        secrets = secrets_of(ctx, connection, kept.id)
    told: list[int] = []
    for gap, what in ((Gap.ALIVE, RegistryAct.RELEASE), (Gap.ABSENT, RegistryAct.BRING_IN)):
        meant = {
            key: row.id
            for row in rows
            if row.kind is gap and (key := row.roster_key if gap is Gap.ALIVE else row.serial)
        }
        if meant:
            done = ctx.outside.act(kept.document, secrets, what, list(meant), {}, trying=False)
            _note(ctx, kept, what, done, reason)
            told += [gap_id for key, gap_id in meant.items() if key not in done.refused]
    return told
