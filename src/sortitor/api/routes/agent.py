"""Routes: the agent protocol, spoken by devices and relays."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

from fastapi import Path, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.access import Anonymous, address_of, anonymous, bearer, service_of
from sortitor.api.http.paging import fields_of
from sortitor.api.http.parts import PARTS, hand_out
from sortitor.api.http.routes import Router
from sortitor.core.arrivals import Knock
from sortitor.core.errors import BadInput, FieldProblem, NotSignedIn
from sortitor.core.here import Found
from sortitor.core.lifecycle import Sighting
from sortitor.core.vocabulary import GivenAs, Stage
from sortitor.operations import arrivals
from sortitor.operations.arrivals import hash_credential, setting_up, ways
from sortitor.operations.checkins import CheckIns
from sortitor.operations.kits import delivery
from sortitor.schemas.arrivals import (
    Announced,
    AnnouncedLot,
    CheckIn,
    CheckInAnswer,
    CodeTyped,
    CodeWanted,
    KnockAnswer,
    PasswordTyped,
    ProgressTold,
    Relay,
    RelayAnswer,
    WayAnswers,
    WayIn,
)
from sortitor.schemas.arrivals import Knock as KnockGiven
from sortitor.schemas.kits import (
    AgentChecklist,
    AgentItem,
    AgentKit,
    AgentReports,
    LocalAdministrator,
    Wait,
    Waited,
)

router = Router(prefix="/agent", tags=["agent"])


@router.post("/knock")
def knock(request: Request, ctx: Anonymous, given: KnockGiven) -> KnockAnswer:
    """A device arrives: the gate decides, the device is named and given its credential. A device
    that is in use shows the credential that it has as a bearer token.
    """
    credential = bearer(request)
    stated = Knock(
        code=given.code,
        platform=given.platform,
        os_version=given.os_version or None,
        maker=given.maker or None,
        model=given.model or None,
        serial=given.serial or None,
        imeis=tuple(given.imeis),
        person=given.person or None,
        passcode=given.passcode or None,
        protocol=given.protocol,
        credential=hash_credential(credential) if credential else None,
    )
    told = arrivals.knock(ctx, stated)
    # Wrong codes are counted like wrong passwords.
    request.state.failed = any(r.code.startswith("pass_") for r in told.reasons)
    welcome = None
    if told.secret is not None:
        # After the #, which no browser sends: the secret is in nobody's log.
        welcome = f"{service_of(request).public_url}/welcome#{told.secret}"
    return KnockAnswer(
        arrival_id=told.arrival_id,
        outcome=told.outcome,
        messages=list(dict.fromkeys(r.sentence for r in told.reasons)),
        codes=[r.code for r in told.reasons],
        device_id=told.device_id,
        name=told.name,
        credential=told.credential,
        secret=told.secret,
        asks=list(told.asks),
        welcome_url=welcome,
    )


@router.post("/announce")
def announce(request: Request, ctx: Anonymous, given: Announced) -> AnnouncedLot:
    """A machine tells of itself before it arrives, with a pass: a draft lot for a coordinator."""
    found = Found(
        serial=given.serial or None,
        uuid=given.uuid or None,
        macs=tuple(given.macs),
        maker=given.maker or None,
        model=given.model or None,
        fingerprint=given.fingerprint or None,
        missing=(),
    )
    if not (found.serial or found.uuid or found.macs or found.fingerprint):
        raise BadInput(
            "no_identifier", "Nothing that identifies the machine was sent.", "Send one of them."
        )
    # Wrong codes are counted like wrong passwords.
    request.state.failed = True
    lot_id = arrivals.announce(
        ctx, given.code, given.passcode or None, found, given.machine or None
    )
    request.state.failed = False
    return AnnouncedLot(lot_id=lot_id)


def _secret(request: Request) -> str:
    found = bearer(request)
    if not found:
        raise NotSignedIn(
            "no_secret", "The arrival's secret is missing.", "Send it as a bearer token."
        )
    return found


Language = Annotated[
    str | None, Query(max_length=20, description="Which language the person reads (BCP 47).")
]


@router.get("/way")
def show_way(request: Request, ctx: Anonymous, language: Language = None) -> WayIn:
    """How far an arrival is; its secret is the bearer token, here and below."""
    return WayIn.model_validate(_shown(ways.look(ctx, _secret(request), language)))


@router.post("/way/code")
def send_sign_in_code(
    request: Request, ctx: Anonymous, given: CodeWanted, language: Language = None
) -> WayIn:
    """Send a code to the mail address that is known of a person. The answer is the same whether
    there is such a person or not.
    """
    # Whoever asks for codes is a stranger until one is typed: slowed like wrong passwords.
    request.state.failed = True
    secret, address = _secret(request), address_of(request)
    return WayIn.model_validate(
        _shown(ways.send_code(ctx, secret, given.person, address, language))
    )


@router.post("/way/sign-in")
def type_sign_in_code(
    request: Request, ctx: Anonymous, given: CodeTyped, language: Language = None
) -> WayIn:
    """Type the code that was sent; a wrong one is refused, and after five a new one is needed."""
    way, right = ways.sign_in(ctx, _secret(request), given.code, language)
    if not right:
        request.state.failed = True
        raise BadInput(
            "wrong_code",
            "This is not the code that was sent.",
            "Type the newest one, or let a new one be sent.",
            (FieldProblem("/code", "wrong_code", "The code is not right."),),
        )
    return WayIn.model_validate(_shown(way))


@router.post("/way/password")
async def sign_in_by_password(
    request: Request, given: PasswordTyped, language: Language = None
) -> WayIn:
    """Sign in with the directory's password; after five wrong ones the device starts again."""
    request.state.failed = True
    ctx, secret, password = anonymous(request), _secret(request), given.password.get_secret_value()
    way, right = await service_of(request).door_sign_ins.at_the_door(
        given.person,
        address_of(request),
        lambda: ways.sign_in_by_password(ctx, secret, given.person, password, language),
    )
    if not right:
        raise BadInput(
            "wrong_name_or_password",
            "The name or the password is not right.",
            "Type them as the directory has them.",
        )
    request.state.failed = False
    return WayIn.model_validate(_shown(way))


@router.post("/way/answers")
def answer_way(
    request: Request, ctx: Anonymous, given: WayAnswers, language: Language = None
) -> WayIn:
    """Answer what is asked; once all is known, the gate decides."""
    request.state.failed = given.passcode is not None
    answers = ways.Answers(
        passcode=given.passcode or None,
        ownership=given.ownership,
        accepted=given.accepted,
        language=language or "en",
    )
    return WayIn.model_validate(_shown(ways.answer(ctx, _secret(request), answers)))


@router.post("/way/collect")
def collect_decision(request: Request, ctx: Anonymous) -> KnockAnswer:
    """The decision with the device's credential, this once: for the device, not for the page."""
    told = ways.collect(ctx, _secret(request))
    return KnockAnswer(
        arrival_id=told.arrival_id,
        outcome=told.outcome,
        messages=list(told.sentences),
        codes=list(told.codes),
        device_id=told.device_id,
        name=told.name,
        credential=told.credential,
    )


@router.post("/progress", status_code=204)
def tell_progress(request: Request, ctx: Anonymous, given: ProgressTold) -> None:
    """How far a device's setting up is; its credential is the bearer token."""
    told = setting_up.Progress(
        done=given.done,
        total=given.total,
        doing=given.doing or None,
        failed=given.failed or None,
        finished=given.finished,
    )
    setting_up.report(ctx, _secret(request), told)
    request.state.recognised = True


def _shown(way: ways.Way) -> dict[str, Any]:
    return {**fields_of(way), "messages": way.sentences}


def _check_ins(request: Request) -> CheckIns:
    found = service_of(request).check_ins
    assert found is not None, "check-ins are taken once the service has started"
    return found


@router.post("/check-in")
async def check_in(request: Request, given: CheckIn) -> CheckInAnswer:
    """A sign of life, answered after it is committed."""
    credential = bearer(request)
    sink = _check_ins(request)
    found = (
        await sink.one(Sighting(hash_credential(credential), sink.now(), given.os_version or None))
        if credential
        else None
    )
    if found is None:
        raise _not_good()
    request.state.recognised = True
    return CheckInAnswer(
        device_id=found.device_id, name=found.name, stage=Stage(found.stage), kit=found.kit
    )


@router.post("/check-in/wait")
async def wait_for_push(request: Request, given: Wait) -> Waited:
    """Wait to be woken, for a minute or as long as is said: a device that stays in reach hears at
    once that it has to look. It is no sign of life.
    """
    credential, waking = bearer(request), service_of(request).waking
    assert waking is not None, "devices wait once the service has started"
    left = asyncio.ensure_future(_until_left(request))
    try:
        woken = (
            await waking.wait(hash_credential(credential), given.seconds, left)
            if credential
            else None
        )
    finally:
        left.cancel()
    if woken is None:
        raise _not_good()
    request.state.recognised = True
    return Waited(woken=woken)


async def _until_left(request: Request) -> None:
    while (await request.receive())["type"] != "http.disconnect":
        pass


@router.get("/kit", responses={304: {"description": "It is what the device knows."}})
def fetch_kit(request: Request, response: Response, ctx: Anonymous) -> AgentKit:
    """What the device gets, with secrets in clear; `If-None-Match` with the revision that it knows
    is answered by 304 where nothing is another.
    """
    credential = bearer(request)
    if not credential:
        raise _not_good()
    known = (request.headers.get("if-none-match") or "").strip('"')
    found = delivery.fetch(ctx, credential, known or None)
    request.state.recognised = True
    if found is None:
        return Response(status_code=304, headers={"ETag": f'"{known}"'})  # type: ignore[return-value]
    response.headers["ETag"] = f'"{found.revision}"'
    return AgentKit(
        revision=found.revision,
        items=[
            AgentItem(
                id=one.id,
                revision=one.revision,
                word=GivenAs(one.word),
                name=one.item.name,
                version=one.item.version,
                needs_hand=one.item.needs_hand,
                reboots=one.item.reboots,
                payload=one.item.payload,
            )
            for one in found.items
        ],
        sheet=found.sheet and found.sheet.exported(),
        administrator=found.administrator
        and LocalAdministrator.model_validate(found.administrator),
        checklist=found.checklist and AgentChecklist.model_validate(found.checklist),
    )


@router.get(
    "/files/{digest}",
    response_class=Response,
    responses=PARTS,
)
async def fetch_own_file(
    request: Request,
    digest: Annotated[str, Path(description="The file’s SHA-256, in hex.")],
) -> Response:
    """The bytes of a file that an item of the device brings, whole or (`Range`) a part of them: one
    that broke off goes on where it was.
    """
    credential, ctx = bearer(request), anonymous(request)
    if not credential:
        raise _not_good()
    row = await run_in_threadpool(delivery.file_of, ctx, credential, digest)
    request.state.recognised = True
    return await hand_out(request, ctx.storage, row)


@router.post("/reports", status_code=204)
def report_items(request: Request, ctx: Anonymous, given: AgentReports) -> None:
    """How far the device is with its items; of those that are not known here nothing is kept."""
    credential = bearer(request)
    if not credential:
        raise _not_good()
    told = [
        delivery.Told(one.item, one.revision, one.state, one.code, one.words, one.log)
        for one in given.reports
    ]
    delivery.tell(ctx, credential, told)
    request.state.recognised = True


def _not_good() -> NotSignedIn:
    return NotSignedIn(
        "bad_credential",
        "This device credential is unknown or has ended.",
        "Let the device knock again with a pass.",
    )


@router.post("/check-ins")
async def relay(request: Request, given: Relay) -> RelayAnswer:
    """Up to 1,000 check-ins that a relay gathered, in one transaction."""
    batch = [
        Sighting(hash_credential(c.credential), c.seen_at, c.os_version or None)
        for c in given.check_ins
    ]
    found = await _check_ins(request).many(batch)
    request.state.recognised = True
    unknown = [place for place, answer in enumerate(found) if answer is None]
    return RelayAnswer(received=len(batch) - len(unknown), unknown=unknown)
