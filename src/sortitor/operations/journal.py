"""Reading the journal."""

from __future__ import annotations

from dataclasses import replace

from sortitor.operations.context import Context, or_not_found
from sortitor.store import journal as store
from sortitor.store.journal import EffectRow, EntryRow

_EFFECTS_SHOWN = 100


def page(
    ctx: Context, before: int | None, limit: int, operation: str | None, actor: str | None
) -> list[EntryRow]:
    """Entries, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit, operation, actor)


def one(ctx: Context, entry_id: int) -> tuple[EntryRow, list[EffectRow]]:
    """One entry with its first hundred effects on devices."""
    with ctx.reading() as connection:
        entry = or_not_found(store.one(connection, entry_id), "journal entry", entry_id)
        effects = store.effects(connection, entry_id, 0, _EFFECTS_SHOWN)
        return entry, [_veiled(ctx, effect) for effect in effects]


def _veiled(ctx: Context, effect: EffectRow) -> EffectRow:
    """A device that was, is or became personal is treated as personal on both sides."""
    sides = (effect.before or {}, effect.after or {})
    states = [effect.ownership, *(side.get("ownership") for side in sides)]
    ownership = next((state for state in states if ctx.veil.hides(state)), effect.ownership)
    return replace(
        effect,
        before=ctx.veil.effect(effect.before, ownership),
        after=ctx.veil.effect(effect.after, ownership),
    )
