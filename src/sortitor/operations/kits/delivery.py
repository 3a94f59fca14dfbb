"""What a device fetches and tells, and asking devices to look again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import Any

from sortitor.core.errors import NotSignedIn
from sortitor.core.filters import lower
from sortitor.core.kits.checklists import Progress, progress
from sortitor.core.kits.items import Item, SettingPayload
from sortitor.core.kits.resolve import GIVEN, Facts
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.previews import Count, Preview, plural, sealed
from sortitor.core.selection import Selection
from sortitor.core.vocabulary import Expiry, Giving, ItemState, ItemVerdict, Stage
from sortitor.operations.arrivals import hash_credential
from sortitor.operations.arrivals.setting_up import Begun, begin_checklist, note_progress
from sortitor.operations.context import Context, or_not_found, require_digest
from sortitor.operations.documents import Key
from sortitor.operations.kits import passwords
from sortitor.operations.kits.documents import ITEMS, opened
from sortitor.operations.kits.library import Library, library
from sortitor.operations.kits.reading import bring_up
from sortitor.operations.selections import resolve_selection
from sortitor.store import arrivals, devices, files, kits
from sortitor.store import delivery as store
from sortitor.store.delivery import AgentRow, ReportRow, StateRow, TimesRow
from sortitor.store.engine import Connection
from sortitor.store.files import FileRow
from sortitor.store.settling import hold_still

#: A device that heard nothing for so long looks by itself when it checks in.
_PUSHES_KEPT = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Delivered:
    """An item as a device is sent it, with secrets in clear."""

    id: int
    revision: str
    word: ItemVerdict
    item: Item


@dataclass(frozen=True, slots=True)
class Handover:
    """A checklist as a device is sent it: its items by number, in the order in which they are
    done.
    """

    items: list[int]
    limit_minutes: int
    every_start: bool
    on_expiry: str
    message: str | None
    logs: bool


@dataclass(frozen=True, slots=True)
class Administrator:
    """The local administrator of a device, with its own password in clear."""

    user: str
    password: str


@dataclass(frozen=True, slots=True)
class Delivery:
    """All that a device gets."""

    revision: str
    items: list[Delivered]
    sheet: SetupSheet | None
    checklist: Handover | None
    administrator: Administrator | None = None


def fetch(ctx: Context, credential: str, known: str | None) -> Delivery | None:
    """What a device gets; None where it is what it knows. One that waits for a coordinator gets
    nothing yet. Raises NotSignedIn.
    """
    bring_up(ctx)
    with ctx.reading(one_moment=True) as connection:
        device, found = _device(connection, credential), library(connection)
        facts = found.facts(device.facts)
        told = kits.revision_of(connection, device.id) or found.outcome(0, facts).revision
        if device.asked:
            told = f"{told}.{device.asked}"
        is_in_use = device.stage in (Stage.ACTIVE, Stage.DORMANT)
        if not is_in_use:
            # As a check-in says it: once somebody has let it in, it looks again.
            told = f"{told}.{device.stage}"
        if known == told:
            return None
        if not is_in_use:
            return Delivery(told, [], None, None)
        delivered = _delivery(ctx, connection, found, device, told)
    if (wanted := delivered.checklist) is not None:
        begun = Begun(
            len(wanted.items), wanted.limit_minutes, Expiry(wanted.on_expiry), wanted.message
        )
        begin_checklist(ctx, device.id, begun)
    user = delivered.sheet and delivered.sheet.local_administrator
    if not user:
        return delivered
    made = Administrator(user, passwords.fetched(ctx, device.id))
    return replace(delivered, administrator=made)


def file_of(ctx: Context, credential: str, digest: str) -> FileRow:
    """A file that an item of a device brings. Raises NotSignedIn, and NotFound for any other."""
    with ctx.reading(one_moment=True) as connection:
        device, found = _device(connection, credential), library(connection)
        items = found.documents[Giving.ITEM]
        brought = device.stage in (Stage.ACTIVE, Stage.DORMANT) and any(
            digest in items[line.item_id].document.files(found.catalogue)
            for line in found.effective(found.facts(device.facts))
            if line.verdict in GIVEN
        )
        return or_not_found(files.one(connection, digest) if brought else None, "file", digest)


def _device(connection: Connection, credential: str) -> AgentRow:
    found = store.device_of(connection, hash_credential(credential))
    if found is None:
        raise NotSignedIn(
            "bad_credential",
            "This device credential is unknown or has ended.",
            "Let the device knock again with a pass.",
        )
    return found


def _delivery(
    ctx: Context, connection: Connection, found: Library, device: AgentRow, told: str
) -> Delivery:
    facts = found.facts(device.facts)
    items, sheets = found.documents[Giving.ITEM], found.documents[Giving.SHEET]
    sheet = found.chosen(facts, Giving.SHEET)
    return Delivery(
        told,
        [
            Delivered(
                line.item_id,
                found.book.items[line.item_id].revision,
                line.verdict,
                _sent(found, opened(ctx, connection, items[line.item_id].document)),
            )
            for line in found.effective(facts)
            if line.verdict in GIVEN
        ],
        sheets[sheet].document if sheet else None,
        _handover(connection, found, device.id, facts),
    )


def _sent(found: Library, item: Item) -> Item:
    """A setting of the organisation's own goes by what the platform calls it."""
    payload = item.payload
    if not isinstance(payload, SettingPayload) or payload.setting not in found.own:
        return item
    return item.model_copy(update={"payload": found.own[payload.setting].sent(payload.value)})


def _handover(
    connection: Connection, found: Library, device_id: int, facts: Facts
) -> Handover | None:
    """The checklist of a device, with those of its items that the device gets. One that was ready
    once and comes back has none, unless it is for every start.
    """
    chosen = found.chosen(facts, Giving.CHECKLIST)
    if chosen is None:
        return None
    document = found.documents[Giving.CHECKLIST][chosen].document
    before = arrivals.handover(connection, device_id)
    if not document.every_start and before is not None and before.was_ready:
        return None
    return Handover(
        items=_awaited(found, facts, chosen),
        limit_minutes=document.limit_minutes,
        every_start=document.every_start,
        on_expiry=document.on_expiry,
        message=document.message,
        logs=document.logs,
    )


def _awaited(found: Library, facts: Facts, checklist_id: int) -> list[int]:
    """The items that must be done at the device, in order."""
    document = found.documents[Giving.CHECKLIST][checklist_id].document
    kinds = {
        kept.document.name: kept.document.payload.kind
        for kept in found.documents[Giving.ITEM].values()
    }
    by_name = {lower(name): name for name in kinds}
    named = document.model_copy(
        update={"items": tuple(by_name[lower(name)] for name in document.items)}
    )
    gets = {line.item_id for line in found.effective(facts) if line.verdict == "required"}
    numbers = [found.items_by_name[lower(name)] for name in named.ordered(kinds)]
    return [number for number in numbers if number in gets]


# ---- telling


@dataclass(frozen=True, slots=True)
class Told:
    """What a device tells of one item."""

    item_id: int
    revision: str
    state: ItemState
    code: str | None = None
    words: str | None = None
    log: str | None = None


def tell(ctx: Context, credential: str, told: Sequence[Told]) -> None:
    """Keep what a device tells, and how far its checklist is. Of several words on one item the
    last counts.
    """
    with ctx.bookkeeping() as connection:
        device, found = _device(connection, credential), library(connection)
        lines: dict[int, dict[str, Any]] = {
            one.item_id: {
                "item_id": one.item_id,
                "revision": one.revision,
                "state": one.state,
                "code": one.code if one.state is ItemState.FAILED else None,
                "words": one.words,
                "log": one.log if one.state is ItemState.FAILED else None,
            }
            for one in told
        }
        store.write_reports(connection, device.id, list(lines.values()), ctx.now)
        now = _progress(connection, found, device)
        if now is not None:
            note_progress(ctx, connection, device.id, now)


def _progress(connection: Connection, found: Library, device: AgentRow) -> Progress | None:
    """How far the checklist of a device is; None: it has none."""
    facts = found.facts(device.facts)
    chosen = found.chosen(facts, Giving.CHECKLIST)
    if chosen is None:
        return None
    items = found.documents[Giving.ITEM]
    names = {number: items[number].document.name for number in _awaited(found, facts, chosen)}
    states = {
        names[row.item_id]: row.state
        for row in store.reports_of(connection, device.id)
        if row.item_id in names and row.revision == found.book.items[row.item_id].revision
    }
    return progress(list(names.values()), states)


# ---- who has what, who failed and why


@dataclass(frozen=True, slots=True)
class States:
    """How far the devices that get an item are with it, failures by their code, and how long it
    usually takes.
    """

    states: dict[ItemState, int]
    failures: list[StateRow]
    times: TimesRow | None


def states(ctx: Context, key: Key) -> States:
    """How far the devices that get an item are."""
    bring_up(ctx)
    with ctx.reading(one_moment=True) as connection:
        kept = ITEMS.find(connection, key)
        rows = store.states(connection, kept.id)
        counted = {
            state: sum(row.devices for row in rows if row.state == state) for state in ItemState
        }
        took = {row.item_id: row for row in store.times(connection)}
        failures = [row for row in rows if row.state == ItemState.FAILED]
        return States(counted, failures, took.get(kept.id))


def reports_of(ctx: Context, device_id: int) -> dict[int, ReportRow]:
    """Item → what a device told of it, as the item is now."""
    with ctx.reading() as connection:
        or_not_found(devices.one(connection, device_id), "device", device_id)
        found = library(connection).book.items
        return {
            row.item_id: row
            for row in store.reports_of(connection, device_id)
            if row.item_id in found and row.revision == found[row.item_id].revision
        }


def log_of(ctx: Context, device_id: int, key: Key) -> str | None:
    """What a device sent along when an item failed."""
    with ctx.reading() as connection:
        or_not_found(devices.one(connection, device_id), "device", device_id)
        return store.log_of(connection, device_id, ITEMS.find(connection, key).id)


def times(ctx: Context) -> list[TimesRow]:
    """How long each item usually takes."""
    with ctx.reading() as connection:
        return store.times(connection)


# ---- asking again


@dataclass(frozen=True, slots=True)
class Retry:
    """An item that is to be tried again where it failed: on these devices."""

    item: Key
    selection: Selection


def preview_retry(ctx: Context, retry: Retry) -> Preview:
    """On how many devices an item would be tried again."""
    with ctx.reading() as connection:
        return _retry(ctx, connection, retry)[0]


def apply_retry(ctx: Context, retry: Retry, digest: str, reason: str | None) -> Preview:
    """Try an item again where it failed, as previewed; devices that wait look now."""
    with ctx.changing() as connection:
        hold_still(connection)
        shown, item_id, ids = _retry(ctx, connection, retry)
        require_digest(shown, digest)
        store.forget_failures(connection, item_id, ids)
        store.ask_again(connection, ids)
        store.push(connection, ids, ctx.actor.name, ctx.now)
        words = f"{shown.title} on {plural(len(ids), 'device')}"
        ctx.record(connection, "item.retry", "item", words, subject_id=item_id, reason=reason)
        return shown


def _retry(ctx: Context, connection: Connection, retry: Retry) -> tuple[Preview, int, list[int]]:
    kept = ITEMS.find(connection, retry.item)
    ids = store.failed(connection, kept.id, resolve_selection(connection, retry.selection), ctx.now)
    shown = Preview(
        title=f"Try item “{kept.document.name}” again",
        apply_label=f"Try again on {plural(len(ids), 'device')}",
        counts=(Count("failed", "devices on which it failed", len(ids)),),
        examples=(),
        examples_total=0,
        nothing_to_do=not ids,
    )
    return sealed(shown, [kept.id, ids]), kept.id, ids


def preview_push(ctx: Context, selection: Selection) -> Preview:
    """Which devices would be woken."""
    with ctx.reading() as connection:
        return _push(ctx, connection, selection)[0]


def apply_push(ctx: Context, selection: Selection, digest: str, reason: str | None) -> Preview:
    """Wake devices as previewed: those that wait for it look at once, the others when they check
    in next.
    """
    with ctx.changing() as connection:
        shown, ids = _push(ctx, connection, selection)
        require_digest(shown, digest)
        store.push(connection, ids, ctx.actor.name, ctx.now)
        words = f"{plural(len(ids), 'device')} woken to look for what they get"
        ctx.record(connection, "kit.push", "kit", words, reason=reason)
        return shown


def _push(ctx: Context, connection: Connection, selection: Selection) -> tuple[Preview, list[int]]:
    ids = store.chosen(connection, resolve_selection(connection, selection), ctx.now)
    shown = Preview(
        title=f"Wake {plural(len(ids), 'device')}",
        apply_label=f"Wake {plural(len(ids), 'device')} now",
        counts=(Count("devices", "devices are told to look now", len(ids)),),
        examples=(),
        examples_total=0,
        warnings=("Those that are switched off or out of reach look when they check in next.",),
        nothing_to_do=not ids,
    )
    return sealed(shown, ids), ids


def keep_up(ctx: Context) -> None:
    """Forget what no device gets any more, and pushes that every device has heard of; by
    schedule.
    """
    with ctx.bookkeeping() as connection:
        hold_still(connection)
        kits.sweep_outcomes(connection)
        store.forget_pushes(connection, ctx.now - _PUSHES_KEPT)
