"""What goes when its time is over: previewed, and carried out every night."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sortitor.core.previews import plural
from sortitor.operations.context import Context
from sortitor.store import retention as store
from sortitor.store.retention import Old


@dataclass(frozen=True, slots=True)
class Going:
    """One kind of thing: how many go now, after how many days (None: it has a time of its own)."""

    what: str
    days: int | None
    count: int


def _kinds(ctx: Context) -> list[tuple[Old, int | None]]:
    keeping = ctx.limits.keeping
    return [
        (Old.ARRIVALS, keeping.arrivals_days),
        (Old.UPLOADS, keeping.uploads_days),
        (Old.JOBS, keeping.jobs_days),
        (Old.SESSIONS, None),
        (Old.ANSWERS, None),
        (Old.STRANGERS, 90),
        (Old.MAILS, keeping.uploads_days),
        # Longer than any end is ahead of its first reminder.
        (Old.REMINDERS, 800),
    ]


def preview(ctx: Context) -> list[Going]:
    """What would go now."""
    with ctx.reading() as connection:
        return [
            Going(kind.value, days, store.count(connection, kind, _before(ctx, kind, days)))
            if days != 0
            else Going(kind.value, 0, 0)
            for kind, days in _kinds(ctx)
        ]


def _before(ctx: Context, kind: Old, days: int | None) -> store.Bounds:
    business = (Old.ARRIVALS, Old.UPLOADS, Old.MAILS, Old.REMINDERS)
    now = ctx.now if kind in business else ctx.clock.wall()
    idle = ctx.clock.wall() - timedelta(hours=ctx.limits.session_idle_hours)
    return store.Bounds(now - timedelta(days=days or 0), ctx.clock.wall(), idle)


def carry_out(ctx: Context) -> list[Going]:
    """Let go of it, a few thousand at a time, so that nobody waits; the journal says how many."""
    done = []
    for kind, days in _kinds(ctx):
        gone = 0
        if days != 0:
            bounds = _before(ctx, kind, days)
            while True:
                with ctx.bookkeeping() as connection:
                    some = store.remove(connection, kind, bounds)
                gone += some
                if some < store.AT_ONCE:
                    break
        done.append(Going(kind.value, days, gone))
    told = [plural(one.count, one.what.removesuffix("s")) for one in done if one.count]
    if told:
        with ctx.changing() as connection:
            words = f"Let go after their time: {', '.join(told)}"
            ctx.record(connection, "retention.run", "installation", words)
    return done
