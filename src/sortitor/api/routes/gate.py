"""Routes: the gate."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Query, Request, Response

from sortitor.api.http.access import MayLook, MayPrepare
from sortitor.api.http.etags import IfMatch, revision_of, tag
from sortitor.api.http.files import XLSX, as_file
from sortitor.api.http.paging import Cursor, Limit, page, read_number
from sortitor.api.http.routes import Router
from sortitor.core.gate import Gate, open_question, statement_said
from sortitor.core.gate import replay as core
from sortitor.core.vocabulary import Outcome
from sortitor.operations import gate, seals
from sortitor.operations.gate import GATE, GATE_ID
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.documents import Revision
from sortitor.schemas.gate import (
    Decision,
    Effective,
    EffectiveAsked,
    GateApply,
    GateDetail,
    PolicyRemark,
    Replay,
    Replayed,
    Saved,
    Statement,
    Tally,
    Try,
    Turned,
)

router = Router(tags=["gate"])


@router.get("/gate")
def read_gate(ctx: MayLook, response: Response) -> GateDetail:
    """The policies in order; the last is the baseline."""
    kept = gate.read(ctx)
    tag(response, kept.revision)
    return GateDetail(policies=kept.document.policies, revision=kept.revision)


@router.get("/gate/revisions")
def list_gate_revisions(ctx: MayLook) -> Page[Revision]:
    """What was changed of the gate, newest first."""
    return whole(Revision.model_validate(row) for row in GATE.revisions(ctx, GATE_ID))


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
        maker=given.maker or None,
        model=given.model or None,
    )
    proposed = None if given.policies is None else Gate(policies=given.policies)
    found = gate.attempt(ctx, imagined, proposed)
    decision = Decision.model_validate(found)
    return decision.model_copy(update={"depends": open_question(found)})


@router.post("/gate/check")
def check_gate(ctx: MayLook, given: Gate) -> Page[PolicyRemark]:
    """What is odd about a gate that is being edited: words that nobody hears, passes it defeats."""
    return whole(PolicyRemark.model_validate(one) for one in gate.check(ctx, given))


@router.post("/gate/effective")
def show_effective_gate(ctx: MayLook, given: EffectiveAsked) -> Effective:
    """Each facet with its word and the policy that has it, for a person, a group or a device."""
    proposed = None if given.policies is None else Gate(policies=given.policies)
    found = gate.effective_for(
        ctx,
        person=given.person or None,
        group=given.group or None,
        device=given.device or None,
        proposed=proposed,
    )
    return Effective(
        subject=found.subject,
        policies=found.policies,
        statements=[
            Statement(
                facet=one.statement.facet,
                platform=one.statement.platform,
                policy=one.statement.policy,
                words=statement_said(one.statement),
                own=one.own,
            )
            for one in found.statements
        ],
    )


@router.post("/gate/replay")
def replay_gate(ctx: MayLook, given: Gate) -> Replay:
    """What the gate as proposed would have said to today's fleet, and to the arrivals of the last
    90 days as they were then: by outcome and reason.
    """
    found = gate.replay(ctx, given)
    return Replay(
        fleet=_replayed(found.fleet),
        arrivals=_replayed(found.arrivals),
        days=found.days,
        without_facts=found.without_facts,
    )


def _replayed(found: core.Replay) -> Replayed:
    return Replayed(
        looked_at=found.looked_at,
        refused=found.count(Outcome.REFUSED),
        parked=found.count(Outcome.PARKED),
        admitted=found.count(Outcome.ADMITTED),
        tallies=[Tally.model_validate(one) for one in found.tallies()],
    )


Turns = Annotated[Literal["fleet", "arrivals"], Query(description="Devices, or past arrivals.")]
TurnsTo = Annotated[Outcome | None, Query(description="Only those that turn to this outcome.")]
For = Annotated[str | None, Query(description="Only those that have this reason (its code).")]


@router.post("/gate/replay/list", response_model=Page[Turned])
def list_replayed(
    request: Request,
    response: Response,
    ctx: MayLook,
    given: Gate,
    of: Turns = "fleet",
    outcome: TurnsTo = None,
    reason: For = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """The devices (or past arrivals) that the gate as proposed would meet otherwise, by number."""
    after = read_number(cursor) or 0
    return page(
        request,
        response,
        rows=gate.turned_page(ctx, given, of, outcome, reason, after, limit + 1),
        limit=limit,
        shape=Turned.model_validate,
        key=lambda row: row.id,
    )


@router.post(
    "/gate/replay/file",
    response_class=Response,
    responses={200: {"content": {"text/csv": {}, XLSX: {}}}},
)
def export_replayed(
    ctx: MayLook,
    given: Gate,
    of: Turns = "fleet",
    outcome: TurnsTo = None,
    reason: For = None,
    form: Literal["csv", "xlsx"] = "csv",
) -> Response:
    """All of them as a file."""
    frame = gate.turned_frame(ctx, given, of, outcome, reason)
    what = "devices" if of == "fleet" else "arrivals"
    seals.note_export(ctx, what, f"{frame.height:,} {what} of a replay taken out as {form.upper()}")
    return as_file(frame, f"replay-{of}", form)
