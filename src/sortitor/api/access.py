"""Who is calling: session cookie of the console, or bearer token of a script."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

from fastapi import Depends, Request

from sortitor.api.service import Service
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
    """The account behind the request.

    Raises NotSignedIn or, for a forged console request, NotAllowed.
    """
    known: Actor | None = getattr(request.state, "actor", None)
    if known is None:
        service = service_of(request)
        if token := bearer(request):
            known = accounts.recognise(service.engine, service.clock, token=token)
        elif session := request.cookies.get(COOKIE):
            _refuse_forged(request)
            known = accounts.recognise(service.engine, service.clock, session=session)
        else:
            raise NotSignedIn(
                "not_signed_in", "You are not signed in.", "Sign in, or send a bearer token."
            )
        request.state.actor = known
    return known


def _refuse_forged(request: Request) -> None:
    if request.method in _SAFE:
        return
    foreign = request.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none")
    if foreign or CONSOLE_HEADER not in request.headers:
        raise NotAllowed(
            "cross_site",
            "A change with a session cookie must come from the console itself.",
            "Scripts use a bearer token.",
        )


def context_of(request: Request, actor: Actor) -> Context:
    """The context of one request."""
    service = service_of(request)
    claim = getattr(request.state, "claim", None)
    return Context(
        service.engine, service.clock, service.limits, actor, request.state.request_id, claim
    )


def _needs(role: Role) -> Callable[[Request], Context]:
    def context(request: Request) -> Context:
        actor = actor_of(request)
        if not actor.role.covers(role):
            raise NotAllowed(
                "role_too_low",
                f"This needs the role {role}; you are signed in as {actor.role}.",
                "Ask an administrator.",
            )
        ctx = context_of(request, actor)
        if getattr(request.state, "claim", None) is not None:
            request.state.claiming = ctx
        return ctx

    return context


def anonymous(request: Request) -> Context:
    """The context of somebody who has not signed in: a device, or a person about to sign in."""
    return context_of(request, Actor("nobody", Role.VIEWER))


Viewer = Annotated[Context, Depends(_needs(Role.VIEWER))]
Coordinator = Annotated[Context, Depends(_needs(Role.COORDINATOR))]
Administrator = Annotated[Context, Depends(_needs(Role.ADMINISTRATOR))]
Anonymous = Annotated[Context, Depends(anonymous)]
