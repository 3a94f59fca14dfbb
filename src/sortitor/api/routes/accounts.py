"""Routes: signing in, accounts, tokens."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from sortitor.api.http.access import (
    COOKIE,
    MayAdminister,
    MayLook,
    address_of,
    anonymous,
    service_of,
)
from sortitor.api.http.paging import LARGEST, Number
from sortitor.api.http.routes import Router
from sortitor.api.http.sign_ins import on_the_hashing_thread
from sortitor.core.access import GRANTS
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.schemas.accounts import (
    Account,
    AccountEdit,
    AccountNew,
    Me,
    PasswordChange,
    Session,
    SetUp,
    SignIn,
    Token,
    TokenNew,
    TokenSecret,
)

router = Router(tags=["accounts"])
Whose = Annotated[
    int | None,
    Query(ge=1, le=LARGEST, description="An account's number; for administrators. Empty: your own"),
]


def _me(name: str, role: Role) -> Me:
    return Me(name=name, role=role, permissions=sorted(GRANTS[role]))


@router.post("/session")
async def sign_in(request: Request, given: SignIn, response: Response) -> Me:
    """Sign in; the session is a cookie that scripts cannot read. Scripts use tokens."""
    service = service_of(request)
    actor, secret = await service.sign_ins.attempt(
        anonymous(request), given.name, given.password.get_secret_value(), address_of(request)
    )
    request.state.actor = actor
    response.set_cookie(
        COOKIE,
        secret,
        max_age=service.limits.session_hours * 3600,
        httponly=True,
        samesite="strict",
        secure=service.tls or request.url.scheme == "https",
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


@router.put("/session/password", status_code=204)
def change_password(ctx: MayLook, given: PasswordChange, request: Request) -> None:
    """Change your own password: your other sessions end, and your tokens are revoked."""
    # Guesses count like wrong passwords, until one is right.
    request.state.failed = True
    accounts.change_own_password(
        ctx,
        given.current_password.get_secret_value(),
        given.new_password.get_secret_value(),
        request.cookies.get(COOKIE),
        given.keep_tokens,
    )
    request.state.failed = False


@router.get("/sessions")
def list_sessions(ctx: MayLook, account: Whose = None) -> list[Session]:
    """Your living sessions; for administrators, those of any account."""
    return [Session.model_validate(row) for row in accounts.sessions(ctx, account)]


@router.delete("/sessions/{session_id}", status_code=204)
def end_session(ctx: MayLook, session_id: Number, account: Whose = None) -> None:
    """End a session at once."""
    accounts.end_session(ctx, session_id, account)


@router.post("/setup", status_code=201)
async def set_up(request: Request, given: SetUp) -> Me:
    """Make the first administrator with the one-time secret of the first start."""
    ctx = anonymous(request)
    secret, password = given.secret.get_secret_value(), given.password.get_secret_value()
    await on_the_hashing_thread(lambda: accounts.set_up(ctx, secret, given.name, password))
    return _me(given.name, Role.ADMINISTRATOR)


@router.get("/accounts")
def list_accounts(ctx: MayAdminister) -> list[Account]:
    """All accounts with their roles."""
    return [Account.model_validate(row) for row in accounts.every(ctx)]


@router.post("/accounts", status_code=201)
def add_account(ctx: MayAdminister, given: AccountNew) -> Me:
    """Add an account."""
    password = given.password.get_secret_value() if given.password else None
    accounts.add(ctx, given.name, password, given.role, given.directory)
    return _me(given.name, given.role)


@router.patch("/accounts/{account_id}", status_code=204)
def edit_account(ctx: MayAdminister, account_id: Number, given: AccountEdit) -> None:
    """Change role, password or directory, disable or enable."""
    password = given.password.get_secret_value() if given.password else None
    accounts.edit(
        ctx,
        account_id,
        role=given.role,
        password=password,
        directory=given.directory,
        disabled=given.disabled,
    )


@router.get("/tokens")
def list_tokens(ctx: MayLook, account: Whose = None) -> list[Token]:
    """Your living tokens; for administrators, those of any account."""
    return [Token.model_validate(row) for row in accounts.tokens(ctx, account)]


@router.post("/tokens", status_code=201)
def add_token(ctx: MayLook, given: TokenNew) -> TokenSecret:
    """Make a token for scripts; its secret is shown this once. It takes a session that was opened
    with the password.
    """
    token_id, secret = accounts.add_token(ctx, given.name, given.role, given.days, given.purpose)
    return TokenSecret(id=token_id, secret=secret)


@router.delete("/tokens/{token_id}", status_code=204)
def revoke_token(ctx: MayLook, token_id: Number, account: Whose = None) -> None:
    """Revoke a token at once."""
    accounts.revoke_token(ctx, token_id, account)
