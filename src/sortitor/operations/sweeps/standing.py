"""How a device stands to the rules: which one counts, why, and when it is due."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sortitor.core.sweeps import Rule
from sortitor.core.vocabulary import Stage
from sortitor.operations.context import Context
from sortitor.operations.sweeps.rules import RULES, watched
from sortitor.store import devices
from sortitor.store.devices import DeviceRow
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection


@dataclass(frozen=True, slots=True)
class Standing:
    """The rule that counts for a device, those that watch it too, and the days to come: on which
    it becomes dormant (None: it does not, or is already) and on which it is retired.
    """

    rule: Kept[Rule]
    others: tuple[str, ...]
    dormant_on: date | None
    retire_on: date


def standing(ctx: Context, connection: Connection, device: DeviceRow) -> Standing | None:
    """None where no rule watches the device. Of several the one with the longest window counts."""
    rules = RULES.shelf.every(connection)
    chosen = [watched(connection, kept.document) for kept in rules]
    watches = devices.fits(connection, device.id, chosen, ctx.now)
    watching = [kept for kept, is_it in zip(rules, watches, strict=True) if is_it]
    if not watching:
        return None
    counts = max(watching, key=lambda kept: (kept.document.idle_window_days, -kept.id))
    rule = counts.document
    past = _day(ctx, _seen(device)) + timedelta(days=rule.idle_window_days)
    becomes = rule.dormant_days > 0 and device.stage is Stage.ACTIVE
    # What is overdue is dormant at the next run, and has its days of notice from there.
    dormant_on = max(past, ctx.today) if becomes else past
    later = dormant_on + timedelta(rule.dormant_days)
    return Standing(
        rule=counts,
        others=tuple(kept.document.name for kept in watching if kept.id != counts.id),
        dormant_on=dormant_on if becomes else None,
        retire_on=device.retire_on or max(later, ctx.today),
    )


def _seen(device: DeviceRow) -> datetime:
    return device.last_seen_at or device.enrolled_at or device.created_at


def _day(ctx: Context, moment: datetime) -> date:
    return moment.astimezone(ctx.limits.zone).date()
