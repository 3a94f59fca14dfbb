"""How far the setting up of an arrived device is, and how long it is waited for."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sortitor.core.errors import NotSignedIn
from sortitor.core.kits import checklists
from sortitor.core.previews import plural
from sortitor.core.vocabulary import Expiry, Speaker
from sortitor.operations.arrivals import hash_credential
from sortitor.operations.context import Context
from sortitor.store import arrivals as store
from sortitor.store.engine import Connection

_MOST_LATE = 500


@dataclass(frozen=True, slots=True)
class Progress:
    """What a device tells of its setting up: so many of so many, and what is happening now."""

    done: int
    total: int
    doing: str | None
    failed: str | None
    finished: bool


@dataclass(frozen=True, slots=True)
class Begun:
    """A checklist that a device begins: how many items, for how long it is waited for them, what
    happens then, and what the person reads meanwhile.
    """

    total: int
    limit_minutes: int
    on_expiry: Expiry
    message: str | None


def report(ctx: Context, credential: str, told: Progress) -> None:
    """Note how far a device's setting up is, on its latest arrival."""
    with ctx.bookkeeping() as connection:
        arrival_id = store.latest_of_credential(connection, hash_credential(credential))
        if arrival_id is None:
            raise NotSignedIn(
                "bad_credential",
                "This device credential is unknown or has ended.",
                "Let the device knock again with a pass.",
            )
        _note(ctx, connection, arrival_id, told)


def note_progress(
    ctx: Context, connection: Connection, device_id: int, now: checklists.Progress
) -> None:
    """Note how far a device's checklist is, on its latest arrival."""
    arrival_id = store.latest_of_device(connection, device_id)
    if arrival_id is None:
        return
    failed = ", ".join(now.failed) or None
    told = Progress(now.done, now.total, now.current, failed and failed[:200], now.is_over)
    _note(ctx, connection, arrival_id, told)


def begin_checklist(ctx: Context, device_id: int, begun: Begun) -> None:
    """From now on it is waited for a device's checklist; once for each arrival."""
    with ctx.bookkeeping() as connection:
        found = store.handover(connection, device_id, lock=True)
        progress = (found and found.progress) or {}
        if found is None or progress.get("finished") or "on_expiry" in progress:
            return
        until = ctx.now + timedelta(minutes=begun.limit_minutes)
        told = {
            "done": 0,
            "total": begun.total,
            "doing": None,
            "failed": None,
            **progress,
            "finished": not begun.total,
            "until": _as_text(until),
            "limit_minutes": begun.limit_minutes,
            "on_expiry": begun.on_expiry,
            "message": begun.message,
        }
        store.change_arrival(connection, found.id, {"progress": told, "moved_at": ctx.now})


def watch_limits(ctx: Context) -> int:
    """Where the time of a checklist is over: the device waits for somebody, or is handed over
    anyway; by schedule. Gives on how many.
    """
    with ctx.bookkeeping() as connection:
        late = store.overdue(connection, _as_text(ctx.now), _MOST_LATE)
        for arrival_id, progress in late.items():
            limit = plural(progress["limit_minutes"], "minute")
            left = {name: value for name, value in progress.items() if name != "until"}
            if progress["on_expiry"] == Expiry.LET_IN:
                told = {**left, "finished": True, "late": True}
                words = f"Not ready after {limit}: handed over anyway"
            else:
                told = {**left, "failed": progress["failed"] or f"not ready after {limit}"}
                words = f"Not ready after {limit}: it waits for somebody"
            store.change_arrival(connection, arrival_id, {"progress": told, "moved_at": ctx.now})
            store.say(connection, arrival_id, ctx.now, (Speaker.SERVICE, words))
        return len(late)


def _as_text(moment: datetime) -> str:
    """As the database compares it: as text (RFC 3339, UTC)."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _note(ctx: Context, connection: Connection, arrival_id: int, told: Progress) -> None:
    before = store.progress_of(connection, arrival_id) or {}
    progress = {
        **before,
        "done": told.done,
        "total": told.total,
        "doing": told.doing,
        "failed": told.failed,
        "finished": told.finished or before.get("late", False),
    }
    store.change_arrival(connection, arrival_id, {"progress": progress, "moved_at": ctx.now})
    store.say(connection, arrival_id, ctx.now, (Speaker.DEVICE, _told(told)))


def _told(told: Progress) -> str:
    words = f"{told.done} of {told.total}"
    if told.failed:
        return f"{words}: failed, {told.failed}"
    if told.finished:
        return f"{words}: ready"
    return f"{words}: {told.doing}" if told.doing else words
