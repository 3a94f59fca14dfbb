"""Routes: the gate."""

from __future__ import annotations

from fastapi import APIRouter, Response

from sortitor.api.http.access import MayLook, MayPrepare
from sortitor.api.http.etags import IfMatch, revision_of, tag
from sortitor.api.http.routes import Route
from sortitor.core.gate import Gate
from sortitor.operations import gate
from sortitor.operations.gate import GATE, GATE_ID
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision
from sortitor.schemas.gate import Decision, GateApply, GateDetail, Saved, Try

router = APIRouter(tags=["gate"], route_class=Route)


@router.get("/gate")
def read_gate(ctx: MayLook, response: Response) -> GateDetail:
    """The policies in order; the last is the baseline."""
    kept = gate.read(ctx)
    tag(response, kept.revision)
    return GateDetail(policies=kept.document.policies, revision=kept.revision)


@router.get("/gate/revisions")
def list_gate_revisions(ctx: MayLook) -> list[Revision]:
    """What was changed of the gate, newest first."""
    return [Revision.model_validate(row) for row in GATE.revisions(ctx, GATE_ID)]


@router.post("/gate/preview")
def preview_gate(ctx: MayLook, given: Gate) -> Preview:
    """Whom of today's fleet the gate as proposed would meet otherwise than now."""
    return Preview.model_validate(GATE.preview_edit(ctx, GATE_ID, given))


@router.post("/gate/apply")
def apply_gate(
    ctx: MayPrepare, response: Response, given: GateApply, if_match: IfMatch = None
) -> Saved:
    """Save the gate as previewed."""
    kept = GATE.edit(
        ctx,
        GATE_ID,
        Gate(policies=given.policies),
        revision=revision_of(if_match),
        digest=given.digest,
        reason=given.reason,
    )
    tag(response, kept.revision)
    return Saved(revision=kept.revision)


@router.post("/gate/try")
def try_gate(ctx: MayLook, given: Try) -> Decision:
    """What the gate would say to an imagined device, with the trace; nothing is written."""
    imagined = gate.Imagined(
        platform=given.platform,
        os_version=given.os_version or None,
        ownership=given.ownership,
        person=given.person or None,
        identifier=given.identifier or None,
    )
    proposed = None if given.policies is None else Gate(policies=given.policies)
    return Decision.model_validate(gate.attempt(ctx, imagined, proposed))
