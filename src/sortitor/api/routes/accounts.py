"""Routes: signing in, accounts, tokens."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from sortitor.api.http.access import COOKIE, Anonymous, MayAdminister, MayLook, service_of
from sortitor.api.http.routes import Route
from sortitor.core.access import GRANTS
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.schemas.accounts import (
    Account,
    AccountEdit,
    AccountNew,
    Me,
    SetUp,
    SignIn,
    Token,
    TokenNew,
    TokenSecret,
)

router = APIRouter(tags=["accounts"], route_class=Route)


def _me(name: str, role: Role) -> Me:
    return Me(name=name, role=role, permissions=sorted(GRANTS[role]))


@router.post("/session")
def sign_in(ctx: Anonymous, given: SignIn, request: Request, response: Response) -> Me:
    """Sign in; the session is a cookie that scripts cannot read. Scripts use tokens."""
    actor, secret = accounts.sign_in(ctx, given.name, given.password.get_secret_value())
    service = service_of(request)
    response.set_cookie(
        COOKIE,
        secret,
        max_age=service.limits.session_hours * 3600,
        httponly=True,
        samesite="strict",
        secure=service.secure_cookies,
        path="/",
    )
    return _me(actor.name, actor.role)


@router.get("/session")
def whoami(ctx: MayLook) -> Me:
    """Who is signed in."""
    return _me(ctx.actor.name, ctx.actor.role)


@router.delete("/session", status_code=204)
def sign_out(ctx: MayLook, request: Request, response: Response) -> None:
    """End the session."""
    accounts.sign_out(ctx, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")


@router.post("/setup", status_code=201)
def set_up(ctx: Anonymous, given: SetUp) -> Me:
    """Make the first administrator with the one-time secret of the first start."""
    accounts.set_up(
        ctx, given.secret.get_secret_value(), given.name, given.password.get_secret_value()
    )
    return _me(given.name, Role.ADMINISTRATOR)


@router.get("/accounts")
def list_accounts(ctx: MayAdminister) -> list[Account]:
    """All accounts with their roles."""
    return [Account.model_validate(row) for row in accounts.every(ctx)]


@router.post("/accounts", status_code=201)
def add_account(ctx: MayAdminister, given: AccountNew) -> Me:
    """Add an account."""
    accounts.add(ctx, given.name, given.password.get_secret_value(), given.role)
    return _me(given.name, given.role)


@router.patch("/accounts/{account_id}", status_code=204)
def edit_account(ctx: MayAdminister, account_id: int, given: AccountEdit) -> None:
    """Change role or password, disable or enable."""
    password = given.password.get_secret_value() if given.password else None
    accounts.edit(ctx, account_id, role=given.role, password=password, disabled=given.disabled)


@router.get("/tokens")
def list_tokens(ctx: MayLook) -> list[Token]:
    """Your own living tokens."""
    return [Token.model_validate(row) for row in accounts.tokens(ctx)]


@router.post("/tokens", status_code=201)
def add_token(ctx: MayLook, given: TokenNew) -> TokenSecret:
    """Make a token for scripts; its secret is shown this once."""
    token_id, secret = accounts.add_token(ctx, given.name, given.role, given.days, given.purpose)
    return TokenSecret(id=token_id, secret=secret)


@router.delete("/tokens/{token_id}", status_code=204)
def revoke_token(ctx: MayLook, token_id: int) -> None:
    """Revoke one of your tokens."""
    accounts.revoke_token(ctx, token_id)
