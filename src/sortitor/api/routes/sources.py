"""Routes: sources, their runs, credentials and rosters; registries."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response
from fastapi.responses import PlainTextResponse

from sortitor.api.http.access import MayConnect, MayLook
from sortitor.api.http.bodies import FILE_BODY, FileBody
from sortitor.api.http.documents import Key, Noun, Why, document_router
from sortitor.api.http.paging import Cursor, Limit, Number, page, read_cursor, read_number
from sortitor.api.http.routes import Router
from sortitor.api.routes.jobs import accepted
from sortitor.core.access import Permission
from sortitor.core.errors import BadInput
from sortitor.core.sources import days_left
from sortitor.core.vocabulary import SecretKind
from sortitor.operations import jobs
from sortitor.operations.context import Context
from sortitor.operations.documents import Kept
from sortitor.operations.sources import credentials, files, reading, registry, runs
from sortitor.operations.sources.documents import SOURCES
from sortitor.schemas import sources as s
from sortitor.schemas.base import Page, Preview, whole
from sortitor.schemas.jobs import Job

router = Router(tags=["sources"])
PEM = "application/x-pem-file"
_PEM_ANSWER: dict[int | str, dict[str, Any]] = {
    200: {"content": {PEM: {"schema": {"type": "string"}}}, "description": "PEM (RFC 7468)"}
}


def _shape(ctx: Context, detail: reading.SourceDetail) -> s.SourceDetail:
    stands, held = detail.stands, detail.held
    return s.SourceDetail(
        **detail.kept.document.model_dump(),
        id=detail.kept.id,
        revision=detail.kept.revision,
        state=stands.state,
        good_at=stands.good_at,
        next_at=stands.next_at,
        at_work=stands.row.at_work,
        last_run_id=stands.row.last_run_id,
        last_problem=stands.row.last_problem,
        devices=held.devices,
        unknown=held.unknown,
        people=held.people,
        groups=held.groups,
        keys=detail.keys,
        secrets=[
            s.SourceSecret(
                kind=secret.kind,
                waiting=secret.waiting,
                ends_at=secret.ends_at,
                days_left=None if secret.ends_at is None else days_left(secret.ends_at, ctx.now),
                made_at=secret.made_at,
                made_by=secret.made_by,
                words=secret.words,
            )
            for secret in detail.secrets
        ],
    )


def _made(ctx: Context, kept: Kept[s.Source]) -> s.SourceDetail:
    return _shape(ctx, reading.detail(ctx, kept))


def _run(row: runs.RunRow) -> s.SourceRun:
    shaped = s.SourceRun.model_validate(row)
    shaped.words = {name: runs.WORDS[name] for name in row.counts if name in runs.WORDS}
    return shaped


router.include_router(
    document_router(
        Noun(
            kind=SOURCES,
            path="/sources",
            tag="sources",
            one="source",
            many="sources",
            answer=s.SourceDetail,
            every=lambda ctx: [_shape(ctx, detail) for detail in reading.every(ctx)],
            find=lambda ctx, key: _shape(ctx, reading.one(ctx, key)),
            shape=_made,
            may=Permission.CONNECT,
        )
    )
)


# ---- runs


@router.post("/sources/{key}/runs", status_code=202)
def run_source(response: Response, ctx: MayConnect, key: Key, given: s.RunAsked) -> Job:
    """Read the source now, as a job."""
    wanted = runs.Wanted(given.whole, given.unbraked)
    return accepted(ctx, response, jobs.ask_source(ctx, key, wanted))


@router.post("/sources/{key}/runs/preview")
def preview_run(ctx: MayConnect, key: Key) -> Preview:
    """What reading the source whole would change now: people, groups, its roster, cohorts, seats.
    It is read, carried out, and rolled back.
    """
    return Preview.model_validate(runs.preview(ctx, key))


@router.post("/sources/{key}/scope/preview")
def preview_scope(ctx: MayConnect, key: Key, given: s.Source) -> Preview:
    """What the next run would change if the source were as given: another scope, other
    attributes.
    """
    return Preview.model_validate(runs.preview(ctx, key, given))


@router.get("/source-runs", response_model=Page[s.SourceRun])
def list_source_runs(
    request: Request,
    response: Response,
    ctx: MayLook,
    source: Annotated[
        str | None, Query(max_length=200, description="Of this source, by number or name.")
    ] = None,
    cursor: Cursor = None,
    limit: Limit = 50,
) -> Any:
    """Runs of sources, newest first."""
    rows = runs.page(ctx, source, read_number(cursor), limit + 1)
    return page(request, response, rows, limit, _run, lambda row: row.id)


@router.get("/source-runs/{run_id}")
def show_source_run(ctx: MayLook, run_id: Number) -> s.SourceRun:
    """One run of a source with what it changed."""
    return _run(runs.one(ctx, run_id))


# ---- what they said


@router.get("/sources/{key}/devices", response_model=Page[s.RosterLine])
def list_roster(
    request: Request,
    response: Response,
    ctx: MayLook,
    key: Key,
    query: Annotated[
        str | None, Query(max_length=200, description="What a number or order begins with.")
    ] = None,
    unknown: Annotated[bool, Query(description="Only what is no device here.")] = False,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Any:
    """What the source says of devices, by its own numbers."""
    after = read_cursor(cursor)
    if after is not None and not isinstance(after, str):
        raise BadInput(
            "bad_cursor", "The cursor belongs to another list.", "Start from the first page."
        )
    rows = reading.roster(ctx, key, query, unknown, after, limit + 1)
    return page(request, response, rows, limit, s.RosterLine.model_validate, lambda row: row.key)


@router.post("/sources/{key}/file/preview", openapi_extra=FILE_BODY)
def preview_roster_file(ctx: MayConnect, key: Key, body: FileBody) -> Preview:
    """What a roster file that is handed over would change."""
    return Preview.model_validate(files.preview(ctx, key, body))


@router.post("/sources/{key}/file", openapi_extra=FILE_BODY)
def take_roster_file(
    ctx: MayConnect,
    key: Key,
    body: FileBody,
    digest: Annotated[str, Query(description="Of the preview that was looked at.")],
) -> s.SourceRun:
    """Take a roster file over as previewed."""
    return _run(files.apply(ctx, key, body, digest))


@router.get(
    "/sources/{key}/diagnosis",
    response_class=PlainTextResponse,
    responses={200: {"content": {"text/plain": {}}}},
)
def diagnose_source(ctx: MayLook, key: Key) -> PlainTextResponse:
    """What to hand to whoever helps: settings, state, runs; no secret."""
    return PlainTextResponse(reading.diagnosis(ctx, key))


# ---- what opens them


@router.post("/sources/{key}/credentials")
def give_credential(ctx: MayConnect, key: Key, given: s.Credential) -> s.CredentialTaken:
    """Give what opens the source; it is checked, encrypted, and never shown again."""
    return s.CredentialTaken.model_validate(credentials.take(ctx, key, given.text, given.kind))


@router.delete("/sources/{key}/credentials/{kind}", status_code=204)
def forget_credential(ctx: MayConnect, key: Key, kind: SecretKind, reason: Why = None) -> None:
    """Forget what opens the source."""
    credentials.forget(ctx, key, kind, reason)


@router.post("/sources/{key}/key", responses=_PEM_ANSWER, response_class=Response)
def make_source_key(ctx: MayConnect, key: Key) -> Response:
    """Make a key pair for a registry; gives the certificate that is taken there. What is in use
    stays in use until the registry's token is here.
    """
    return Response(credentials.make_key(ctx, key), media_type=PEM)


@router.get("/sources/{key}/certificate", responses=_PEM_ANSWER, response_class=Response)
def show_source_certificate(ctx: MayLook, key: Key) -> Response:
    """The certificate that is to be taken to the registry."""
    return Response(credentials.certificate(ctx, key), media_type=PEM)


@router.get("/sources/{key}/signing-request", responses=_PEM_ANSWER, response_class=Response)
def show_signing_request(ctx: MayConnect, key: Key) -> Response:
    """A certificate signing request (RFC 2986) for the source's key."""
    return Response(credentials.request(ctx, key), media_type=PEM)


@router.post("/sources/{key}/test")
def test_source(ctx: MayConnect, key: Key) -> s.SourceLook:
    """Whether the source can be reached and opened now."""
    return s.SourceLook.model_validate(credentials.look(ctx, key))


@router.post("/sources/{key}/sample")
def sample_source(ctx: MayConnect, key: Key, given: s.Source) -> s.SourceLook:
    """Up to three real entries, read as the given document says, while it is being written."""
    return s.SourceLook.model_validate(credentials.look(ctx, key, given))


# ---- registries


@router.get("/sources/{key}/held")
def find_held(
    ctx: MayConnect,
    key: Key,
    query: Annotated[
        str, Query(min_length=2, max_length=200, description="Serial number, IMEI, order, reseller")
    ],
) -> Page[s.HeldDevice]:
    """What a registry holds under a number, newest first, assigned to this server or not."""
    return whole(s.HeldDevice.model_validate(held) for held in registry.find(ctx, key, query))


def _act(given: s.RegistryActAsked) -> registry.Act:
    return registry.Act(given.act, tuple(given.devices), given.reseller, given.sheet)


@router.post("/sources/{key}/acts/preview")
def preview_registry_act(ctx: MayConnect, key: Key, given: s.RegistryActAsked) -> Preview:
    """What the registry would do, and what it would refuse."""
    return Preview.model_validate(registry.preview(ctx, key, _act(given)))


@router.post("/sources/{key}/acts")
def ask_registry(ctx: MayConnect, key: Key, given: s.RegistryActApply) -> Preview:
    """Let the registry do as previewed; the next run confirms it."""
    return Preview.model_validate(registry.act(ctx, key, _act(given), given.digest, given.reason))
