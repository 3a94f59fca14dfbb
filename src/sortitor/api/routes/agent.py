"""Routes: the agent protocol, spoken by devices and relays."""

from __future__ import annotations

from fastapi import APIRouter, Request

from sortitor.api.http.access import Anonymous, bearer, service_of
from sortitor.api.http.routes import Route
from sortitor.core.arrivals import Knock
from sortitor.core.errors import NotSignedIn
from sortitor.core.lifecycle import Sighting
from sortitor.core.vocabulary import Stage
from sortitor.operations import arrivals
from sortitor.operations.arrivals import hash_credential
from sortitor.operations.checkins import CheckIns
from sortitor.schemas.arrivals import CheckIn, CheckInAnswer, KnockAnswer, Relay, RelayAnswer
from sortitor.schemas.arrivals import Knock as KnockGiven

agent = APIRouter(prefix="/agent", tags=["agent"], route_class=Route)


@agent.post("/knock")
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
        credential=hash_credential(credential) if credential else None,
    )
    told = arrivals.knock(ctx, stated)
    # Wrong codes are counted like wrong passwords.
    request.state.failed = any(r.code.startswith("pass_") for r in told.reasons)
    return KnockAnswer(
        arrival_id=told.arrival_id,
        outcome=told.outcome,
        messages=list(dict.fromkeys(r.sentence for r in told.reasons)),
        codes=[r.code for r in told.reasons],
        device_id=told.device_id,
        name=told.name,
        credential=told.credential,
    )


def _check_ins(request: Request) -> CheckIns:
    found = service_of(request).check_ins
    assert found is not None, "check-ins are taken once the service has started"
    return found


@agent.post("/check-in")
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
        raise NotSignedIn(
            "bad_credential",
            "This device credential is unknown or has ended.",
            "Let the device knock again with a pass.",
        )
    request.state.recognised = True
    device_id, name, stage = found
    return CheckInAnswer(device_id=device_id, name=name, stage=Stage(stage))


@agent.post("/check-ins")
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
