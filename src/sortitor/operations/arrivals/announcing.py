"""A machine that tells of itself before it arrives: with a pass, into a draft lot."""

from __future__ import annotations

from dataclasses import replace

from sortitor.core.errors import BadInput, Conflict, FieldProblem
from sortitor.core.here import Found
from sortitor.core.vocabulary import Role
from sortitor.operations import lots
from sortitor.operations.arrivals.knocking import is_right_passcode, pass_shown, trouble_of
from sortitor.operations.context import Actor, Context
from sortitor.store import lots as store
from sortitor.store.arrivals import PassRow

#: So many drafts of machines that told of themselves may wait to be looked at.
MOST_WAITING = 1_000
DEVICE = "device"


def announce(
    ctx: Context, code: str, passcode: str | None, found: Found, machine: str | None
) -> int:
    """Keep what a machine tells of itself as a draft lot, for a coordinator to look at and apply;
    gives its number. The pass is not used up.

    Raises BadInput for a code that is none, or holds no longer, and for a wrong passcode: a
    stranger learns no more.
    """
    device_ctx = replace(ctx, actor=Actor(DEVICE, Role.VIEWER), claim=None)
    shown = pass_shown(device_ctx, code)
    if shown is None or trouble_of(ctx, shown) is not None or not _is_let_in(shown, passcode):
        detail = "This code or its passcode is not known here, or it holds no longer."
        problem = FieldProblem("/code", "pass_unknown", detail)
        raise BadInput("pass_unknown", detail, "Ask whoever gave it to you.", (problem,))
    with ctx.reading() as connection:
        waiting = store.drafts_of(connection, DEVICE)
    if waiting >= MOST_WAITING:
        raise Conflict(
            "too_many_waiting",
            f"{waiting:,} machines that told of themselves wait to be looked at.",
            "A coordinator applies or discards them first.",
        )
    name = f"{machine or found.model or 'A machine'}, sent with the pass “{shown.terms.label}”"
    given = lots.Given(
        content=found.as_manifest().encode(),
        form="table",
        name=name[:200],
        file_name=None,
        settings=lots.Settings(),
    )
    lot, _ = lots.check(device_ctx, given)
    return lot.id


def _is_let_in(shown: PassRow, passcode: str | None) -> bool:
    return shown.passcode_hash is None or is_right_passcode(shown, passcode)
