"""Routes: the gate and naming."""

from __future__ import annotations

from fastapi import APIRouter, Response

from sortitor.api.access import Coordinator, Viewer
from sortitor.api.devices import as_selection
from sortitor.api.etags import IfMatch, revision_of, tag
from sortitor.api.routes import Route
from sortitor.core import gate as core
from sortitor.core import naming as core_naming
from sortitor.operations import gate, naming
from sortitor.schemas.base import Preview
from sortitor.schemas.gate import (
    Decision,
    Gate,
    GateApply,
    GateChange,
    Naming,
    NamingPreview,
    NamingSave,
    Policy,
    RenameApply,
    Saved,
    Template,
    Try,
)

router = APIRouter(tags=["gate"], route_class=Route)


def _policies(given: list[Policy]) -> list[core.Policy]:
    return [gate.from_document(policy.model_dump()) for policy in given]


@router.get("/gate")
def read_gate(ctx: Viewer, response: Response) -> Gate:
    """The policies in order; the last is the baseline."""
    revision, policies = gate.read(ctx)
    tag(response, revision)
    return Gate(
        revision=revision, policies=[Policy.model_validate(gate.as_document(p)) for p in policies]
    )


@router.post("/gate/preview")
def preview_gate(ctx: Coordinator, given: GateChange) -> Preview:
    """Whom of today's fleet the gate as proposed would meet otherwise than now."""
    return Preview.model_validate(gate.preview(ctx, _policies(given.policies)))


@router.post("/gate/apply")
def apply_gate(ctx: Coordinator, given: GateApply, if_match: IfMatch = None) -> Saved:
    """Save the gate as previewed."""
    return Saved(
        revision=gate.apply(
            ctx, _policies(given.policies), given.digest, given.reason, revision_of(if_match)
        )
    )


@router.post("/gate/try")
def try_gate(ctx: Viewer, given: Try) -> Decision:
    """What the gate would say to an imagined device, with the trace; nothing is written."""
    imagined = gate.Imagined(
        given.platform,
        given.os_version or None,
        given.ownership,
        given.person or None,
        given.identifier or None,
    )
    return Decision.model_validate(
        gate.attempt(
            ctx, imagined, _policies(given.policies) if given.policies is not None else None
        )
    )


def _templates(given: list[Template]) -> list[core_naming.Template]:
    return [naming.from_document(template.model_dump()) for template in given]


@router.get("/naming")
def read_naming(ctx: Viewer, response: Response) -> Naming:
    """The templates in order, and the fields they may use."""
    revision, templates = naming.read(ctx)
    tag(response, revision)
    return Naming(
        revision=revision,
        templates=[Template.model_validate(t) for t in templates],
        next_numbers={t.name: t.next_number for t in templates},
        fields=[*core_naming.FIELDS, "n", "check"],
    )


@router.post("/naming/preview")
def preview_naming(ctx: Viewer, given: NamingPreview) -> Preview:
    """Old → new over a selection: renamed, shortened, too long, colliding, lacking a value."""
    return Preview.model_validate(
        naming.preview(
            ctx,
            _templates(given.templates) if given.templates is not None else None,
            as_selection(given.selection),
        )
    )


@router.post("/naming/save")
def save_naming(ctx: Coordinator, given: NamingSave) -> Saved:
    """Save the templates for devices to come; nothing is renamed."""
    return Saved(revision=naming.apply(ctx, _templates(given.templates), given.reason))


@router.post("/naming/apply")
def apply_naming(ctx: Coordinator, given: RenameApply) -> Preview:
    """Rename a selection by the templates in force, as previewed."""
    return Preview.model_validate(
        naming.rename(ctx, as_selection(given.selection), given.digest, given.reason)
    )
