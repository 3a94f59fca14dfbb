"""Routes: naming templates, and renaming."""

from __future__ import annotations

from fastapi import Response

from sortitor.api.http.access import MayLook, MayPrepare
from sortitor.api.http.etags import IfMatch, edited, tag
from sortitor.api.http.routes import Router
from sortitor.api.http.selections import selection_of
from sortitor.core.naming.templates import FIELDS, FILTERS, SPECIAL, TAG, Naming
from sortitor.operations import naming
from sortitor.operations.naming import NAMING, NAMING_ID
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.documents import Revision
from sortitor.schemas.gate import Saved
from sortitor.schemas.naming import (
    NamingCheck,
    NamingDetail,
    NamingPreview,
    NamingSave,
    RenameApply,
    TemplateChecked,
)

router = Router(tags=["naming"])


@router.get("/naming")
def read_naming(ctx: MayLook, response: Response) -> NamingDetail:
    """The templates in order, and the fields they may use."""
    kept, next_numbers = naming.read(ctx)
    tag(response, kept.revision)
    return NamingDetail(
        templates=kept.document.templates,
        revision=kept.revision,
        next_numbers=next_numbers,
        fields=[*FIELDS, f"{TAG}PREFIX", *SPECIAL],
        filters=list(FILTERS),
    )


@router.get("/naming/revisions")
def list_naming_revisions(ctx: MayLook) -> Page[Revision]:
    """What was changed of the templates, newest first."""
    return whole(Revision.model_validate(row) for row in NAMING.revisions(ctx, NAMING_ID))


@router.post("/naming/check")
def check_naming(ctx: MayLook, given: NamingCheck) -> Page[TemplateChecked]:
    """What each template would do today: how many devices it names, three of them, its faults."""
    found = naming.check(ctx, Naming(templates=given.templates))
    return whole(TemplateChecked.model_validate(one) for one in found)


@router.post("/naming/preview")
def preview_naming(ctx: MayLook, given: NamingPreview) -> Preview:
    """Old → new over a selection: renamed, shortened, too long, colliding, lacking a value."""
    proposed = None if given.templates is None else Naming(templates=given.templates)
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(naming.preview(ctx, proposed, selection))


@router.post("/naming/save")
def save_naming(
    ctx: MayPrepare, response: Response, given: NamingSave, if_match: IfMatch = None
) -> Saved:
    """Save the templates for devices to come; nothing is renamed."""
    kept = NAMING.edit(
        ctx,
        NAMING_ID,
        Naming(templates=given.templates),
        revision=edited(if_match, None, "naming"),
        reason=given.reason,
    )
    tag(response, kept.revision)
    return Saved(revision=kept.revision)


@router.post("/naming/apply")
def apply_naming(ctx: MayPrepare, given: RenameApply) -> Preview:
    """Rename a selection by the templates in force, as previewed."""
    selection = selection_of(ctx, given.selection)
    return Preview.model_validate(naming.rename(ctx, selection, given.digest, given.reason))
