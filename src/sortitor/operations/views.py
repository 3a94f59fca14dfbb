"""Saved views of the device list."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sortitor.core.errors import BadInput
from sortitor.core.filters import parse
from sortitor.operations.context import Context, or_not_found
from sortitor.store import views as store
from sortitor.store.views import ViewRow as ViewRow


def every(ctx: Context) -> list[ViewRow]:
    """One's own views and those that others share."""
    with ctx.reading() as connection:
        return store.every(connection, ctx.actor.account_id)


def one(ctx: Context, view_id: int) -> ViewRow:
    """One's own view, or one that is shared. Raises NotFound."""
    found = next((row for row in every(ctx) if row.id == view_id), None)
    return or_not_found(found, "view", view_id)


def save(ctx: Context, name: str, shared: bool, settings: Mapping[str, Any]) -> ViewRow:
    """Keep a view; one's own of the same name gives way."""
    if settings.get("filter"):
        parse(settings["filter"])
    if ctx.actor.account_id is None:
        raise BadInput("no_account", "Views belong to an account.", "Sign in.")
    with ctx.changing() as connection:
        view_id = store.save(
            connection,
            {
                "account_id": ctx.actor.account_id,
                "name": name,
                "shared": shared,
                "settings": dict(settings),
            },
        )
        ctx.record(
            connection,
            "view.save",
            "view",
            f"View “{name}” saved" + (" for everybody" if shared else ""),
            subject_id=view_id,
            after=dict(settings),
        )
        return next(
            row for row in store.every(connection, ctx.actor.account_id) if row.id == view_id
        )


def remove(ctx: Context, view_id: int) -> None:
    """Forget a view of one's own."""
    with ctx.changing() as connection:
        or_not_found(
            store.remove(connection, view_id, ctx.actor.account_id) or None,
            "view of yours",
            view_id,
        )
        ctx.record(connection, "view.remove", "view", "A view removed", subject_id=view_id)
