"""Routes: sweep rules and runs."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import Request, Response

from sortitor.api.http.access import MayLook, MayRevert, MaySweep, service_of
from sortitor.api.http.documents import Key, Noun, document_router
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_number
from sortitor.api.http.routes import Router
from sortitor.core.access import Permission
from sortitor.core.sweeps import Rule
from sortitor.operations import erasing, seals
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.operations.sweeps import rules, runs
from sortitor.operations.sweeps.rules import RULES
from sortitor.schemas.base import Apply, Page, Preview
from sortitor.schemas.sweeps import Confirmed, Erasure, Idle, IdleDay, RuleDetail, Sweep

router = Router(tags=["sweeps"])


def _shape(kept: Kept[Rule]) -> RuleDetail:
    return RuleDetail(**kept.document.model_dump(), id=kept.id, revision=kept.revision)


def _made(ctx: Context, kept: Kept[Rule]) -> RuleDetail:
    return _shape(kept)


router.include_router(
    document_router(
        Noun(
            kind=RULES,
            path="/sweep-rules",
            tag="sweeps",
            one="sweep_rule",
            many="sweep_rules",
            answer=RuleDetail,
            every=lambda ctx: [_shape(kept) for kept in RULES.every(ctx)],
            find=lambda ctx, key: _shape(RULES.one(ctx, key)),
            shape=_made,
            may=Permission.SWEEP,
        )
    )
)


@router.post("/sweeps/idle/preview")
def preview_idle(ctx: MayLook, given: Rule) -> Idle:
    """The idle days of everything that a rule, saved or not, would watch: what a window of any
    length would take.
    """
    found = rules.look(ctx, given)
    return Idle(
        watched=found.watched,
        days=[
            IdleDay(idle_days=d, devices=n, held=held, left=found.kept.get(d, 0))
            for d, n, held in found.counts
        ],
    )


@router.post(
    "/sweeps/due/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_due(ctx: MayLook, given: Rule, form: Literal["csv", "xlsx"] = "csv") -> Response:
    """The devices that a rule, saved or not, would make dormant or retire now, as a file."""
    frame = runs.due_frame(ctx, given)
    words = f"{frame.height:,} devices due by a sweep rule taken out as {form.upper()}"
    seals.note_export(ctx, "devices", words)
    return as_file(frame, "due", form)


@router.post("/sweep-rules/{key}/sweep/preview")
def preview_sweep(ctx: MayLook, key: Key) -> Preview:
    """Whom the rule would retire now, and the idle days of everyone it watches."""
    return Preview.model_validate(runs.preview(ctx, key))


@router.post("/sweep-rules/{key}/sweep/apply")
def apply_sweep(ctx: MaySweep, key: Key, given: Apply) -> Sweep:
    """Retire as previewed."""
    return Sweep.model_validate(runs.apply(ctx, key, given.digest, given.reason))


@router.post("/sweep-rules/{key}/erasure/preview")
def preview_erasure(ctx: MayLook, key: Key) -> Preview:
    """Which retired devices a rule's retention is over for, and what goes with them."""
    return Preview.model_validate(erasing.preview_due(ctx, key))


@router.post("/sweep-rules/{key}/erasure/apply")
def apply_erasure(ctx: MaySweep, key: Key, given: Confirmed) -> Erasure:
    """Erase as previewed; nothing brings them back."""
    done = erasing.erase_due(ctx, key, given.digest, given.confirm, given.reason)
    return Erasure.model_validate(done)


@router.get("/erasures", response_model=Page[Erasure])
def list_erasures(
    request: Request, response: Response, ctx: MayLook, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Erasures, newest first."""
    return page(
        request,
        response,
        erasing.page(ctx, read_number(cursor), limit + 1),
        limit,
        Erasure.model_validate,
        lambda row: row.id,
    )


@router.get("/erasures/{erasure_id}/certificate")
def show_certificate(request: Request, ctx: MayLook, erasure_id: Number) -> dict[str, Any]:
    """The certificate of an erasure: who erased what and when, signed (JWS, RFC 7515)."""
    return erasing.certificate(ctx, erasure_id, service_of(request).seal_seed)


@router.get("/sweeps", response_model=Page[Sweep])
def list_sweeps(
    request: Request, response: Response, ctx: MayLook, cursor: Cursor = None, limit: Limit = 50
) -> Any:
    """Runs, newest first."""
    return page(
        request,
        response,
        runs.page(ctx, read_number(cursor), limit + 1),
        limit,
        Sweep.model_validate,
        lambda row: row.id,
    )


@router.post("/sweeps/{sweep_id}/revert/preview")
def preview_revert_sweep(ctx: MayLook, sweep_id: Number) -> Preview:
    """Which devices would come back."""
    return Preview.model_validate(runs.preview_revert(ctx, sweep_id))


@router.post("/sweeps/{sweep_id}/revert")
def revert_sweep(ctx: MayRevert, sweep_id: Number, given: Apply) -> Sweep:
    """Bring the devices of a run back as previewed."""
    return Sweep.model_validate(runs.revert(ctx, sweep_id, given.digest, given.reason))
