"""Routes: sweep rules and runs."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.etags import IfMatch, revision_of, tag
from sortitor.api.paging import Cursor, Limit, page, read_number
from sortitor.api.routes import Route
from sortitor.core import sweeps as core
from sortitor.operations import sweeps
from sortitor.schemas.base import Apply, Page, Preview
from sortitor.schemas.sweeps import Rule, RuleNew, Sweep

router = APIRouter(tags=["sweeps"], route_class=Route)


def _rule(given: RuleNew) -> core.Rule:
    return core.Rule(
        given.name, given.idle_window_days, given.filter or None, given.daily, given.brake_percent
    )


@router.get("/sweep-rules")
def list_rules(ctx: Viewer) -> list[Rule]:
    """Rules by name."""
    return [Rule.model_validate(row) for row in sweeps.rules(ctx)]


@router.post("/sweep-rules", status_code=201)
def add_rule(ctx: Coordinator, given: RuleNew) -> Rule:
    """Add a rule; nothing is retired by that."""
    return Rule.model_validate(sweeps.add_rule(ctx, _rule(given)))


@router.get("/sweep-rules/{rule_id}")
def show_rule(response: Response, ctx: Viewer, rule_id: int) -> Rule:
    """One sweep rule."""
    shown = Rule.model_validate(sweeps.rule(ctx, rule_id))
    tag(response, shown.revision)
    return shown


@router.put("/sweep-rules/{rule_id}")
def edit_rule(ctx: Coordinator, rule_id: int, given: RuleNew, if_match: IfMatch = None) -> Rule:
    """Change a rule."""
    return Rule.model_validate(sweeps.edit_rule(ctx, rule_id, _rule(given), revision_of(if_match)))


@router.delete("/sweep-rules/{rule_id}", status_code=204)
def remove_rule(ctx: Coordinator, rule_id: int) -> None:
    """Remove a rule."""
    sweeps.remove_rule(ctx, rule_id)


@router.post("/sweep-rules/{rule_id}/preview")
def preview_sweep(ctx: Viewer, rule_id: int) -> Preview:
    """Whom the rule would retire now, and the idle days of everyone it watches."""
    return Preview.model_validate(sweeps.preview(ctx, rule_id))


@router.post("/sweep-rules/{rule_id}/apply")
def apply_sweep(ctx: Coordinator, rule_id: int, given: Apply) -> Sweep:
    """Retire as previewed."""
    return Sweep.model_validate(sweeps.apply(ctx, rule_id, given.digest, given.reason))


@router.get("/sweeps", response_model=Page[Sweep])
def list_sweeps(
    request: Request, response: Response, ctx: Viewer, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Runs, newest first."""
    return page(
        request,
        response,
        sweeps.runs(ctx, read_number(cursor), limit + 1),
        limit,
        Sweep.model_validate,
        lambda row: row.id,
    )


@router.post("/sweeps/{sweep_id}/revert/preview")
def preview_revert(ctx: Coordinator, sweep_id: int) -> Preview:
    """Which devices would come back."""
    return Preview.model_validate(sweeps.preview_revert(ctx, sweep_id))


@router.post("/sweeps/{sweep_id}/revert")
def revert_sweep(ctx: Coordinator, sweep_id: int, given: Apply) -> Sweep:
    """Bring the devices of a run back as previewed."""
    return Sweep.model_validate(sweeps.revert(ctx, sweep_id, given.digest, given.reason))
