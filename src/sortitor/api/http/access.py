"""Who is calling, and what they may: session cookie of the console, or bearer token of a script."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import Depends, Request
from starlette.concurrency import run_in_threadpool

from sortitor.api.http.service import Service
from sortitor.core.access import WORDS, Permission, may, roles_with
from sortitor.core.errors import NotAllowed, NotSignedIn
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.context import Actor, Context

COOKIE = "sortitor_session"
#: A page of another origin cannot send this header without being asked first, and it is never
#: allowed to.
CONSOLE_HEADER = "x-sortitor-console"
_SAFE = {"GET", "HEAD", "OPTIONS"}


def service_of(request: Request) -> Service:
    """The running service."""
    service: Service = request.app.state.service
    return service


def bearer(request: Request) -> str | None:
    """The secret of an `Authorization: Bearer` header (RFC 6750)."""
    scheme, _, secret = request.headers.get("authorization", "").partition(" ")
    return secret.strip() if scheme.lower() == "bearer" else None


def actor_of(request: Request) -> Actor:
    """The account behind the request. Raises NotSignedIn or, for a forged console request,
    NotAllowed.
    """
    known: Actor | None = getattr(request.state, "actor", None)
    if known is None:
        service = service_of(request)
        if token := bearer(request):
            known = accounts.recognise(service.engine, service.clock, token=token)
        elif session := request.cookies.get(COOKIE):
            _refuse_forged(request)
            known = accounts.recognise(
                service.engine,
                service.clock,
                session=session,
                idle_hours=service.limits.session_idle_hours,
            )
        else:
            raise NotSignedIn(
                "not_signed_in", "You are not signed in.", "Sign in, or send a bearer token."
            )
        request.state.actor = known
    return known


def _refuse_forged(request: Request) -> None:
    if request.method in _SAFE:
        return
    origin = request.headers.get("sec-fetch-site", "same-origin")
    if origin not in ("same-origin", "none") or CONSOLE_HEADER not in request.headers:
        raise NotAllowed(
            "cross_site",
            "A change with a session cookie must come from the console itself.",
            "Scripts use a bearer token.",
        )


def address_of(request: Request) -> str:
    """The address that a request comes from, as the proxies that are believed tell it."""
    return request.client.host if request.client else "unknown"


def context_of(request: Request, actor: Actor) -> Context:
    """The context of one request."""
    service = service_of(request)
    return Context(
        engine=service.engine,
        clock=service.clock,
        limits=service.limits,
        actor=actor,
        request_id=request.state.request_id,
        leash=getattr(request.state, "leash", None),
        claim=getattr(request.state, "claim", None),
        outside=service.outside,
        vault=service.vault,
        storage=service.storage,
        standby=service.standby,
        noted=lambda entry_id: setattr(request.state, "entry_id", entry_id),
    )


def require(actor: Actor, permission: Permission) -> None:
    """Raise NotAllowed unless the actor has the permission."""
    if may(actor.role, permission):
        return
    raise NotAllowed(
        code="role_too_low",
        detail=(
            f"As {actor.role} you may not {WORDS[permission]}; that takes the role"
            f" {' or '.join(roles_with(permission))}."
        ),
        remedy="Ask an administrator.",
    )


def needs(permission: Permission) -> Callable[[Request], Awaitable[Context]]:
    """The context of a caller who has the permission."""

    async def context(request: Request) -> Context:
        # Without a thread where it is known who asks: a route looks before it reads the request.
        if getattr(request.state, "actor", None) is None:
            await run_in_threadpool(actor_of, request)
        return context_of(request, admitted(request, permission))

    context.permission = permission  # type: ignore[attr-defined]
    return context


def admitted(request: Request, permission: Permission) -> Actor:
    """The account behind the request, which has the permission."""
    actor = actor_of(request)
    require(actor, permission)
    return actor


def permission_of(call: object) -> Permission | None:
    """The permission that a dependency made by `needs` asks for."""
    found: Permission | None = getattr(call, "permission", None)
    return found


def anonymous(request: Request) -> Context:
    """The context of somebody who has not signed in: a device, or a person about to sign in."""
    return context_of(request, Actor("nobody", Role.VIEWER))


async def _anonymous(request: Request) -> Context:
    """The same without a thread for it, into which a plain function would be put."""
    return anonymous(request)


Anonymous = Annotated[Context, Depends(_anonymous)]
MayLook = Annotated[Context, Depends(needs(Permission.LOOK))]
MayImport = Annotated[Context, Depends(needs(Permission.IMPORT))]
MayManageDevices = Annotated[Context, Depends(needs(Permission.MANAGE_DEVICES))]
MaySort = Annotated[Context, Depends(needs(Permission.SORT))]
MayPrepare = Annotated[Context, Depends(needs(Permission.PREPARE))]
MayManagePeople = Annotated[Context, Depends(needs(Permission.MANAGE_PEOPLE))]
MayConnect = Annotated[Context, Depends(needs(Permission.CONNECT))]
MayLevel = Annotated[Context, Depends(needs(Permission.LEVEL))]
MayLicense = Annotated[Context, Depends(needs(Permission.LICENSE))]
MaySweep = Annotated[Context, Depends(needs(Permission.SWEEP))]
MayRevert = Annotated[Context, Depends(needs(Permission.REVERT))]
MaySeePersonal = Annotated[Context, Depends(needs(Permission.SEE_PERSONAL))]
MayAdminister = Annotated[Context, Depends(needs(Permission.ADMINISTER))]
