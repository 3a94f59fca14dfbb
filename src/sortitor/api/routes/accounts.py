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
from sortitor.api.http.etags import IfMatch, tag, version_in
from sortitor.api.http.paging import LARGEST, Number
from sortitor.api.http.routes import Router, made_at
from sortitor.api.http.sign_ins import on_the_hashing_thread
from sortitor.core.access import GRANTS
from sortitor.core.vocabulary import Role
from sortitor.operations import accounts
from sortitor.operations.accounts import AccountRow
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
from sortitor.schemas.base import Page, whole

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
        path=f"{service.limits.base}/",
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
    response.delete_cookie(
        COOKIE, path=f"{service_of(request).limits.base}/", httponly=True, samesite="strict"
    )


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
def list_sessions(ctx: MayLook, account: Whose = None) -> Page[Session]:
    """Your living sessions; for administrators, those of any account."""
    return whole(Session.model_validate(row) for row in accounts.sessions(ctx, account))


@router.delete("/sessions/{session_id}", status_code=204)
def end_session(ctx: MayLook, session_id: Number, account: Whose = None) -> None:
    """End a session at once."""
    accounts.end_session(ctx, session_id, account)


@router.post("/setup", status_code=201)
async def set_up(request: Request, response: Response, given: SetUp) -> Me:
    """Make the first administrator with the one-time secret of the first start."""
    ctx = anonymous(request)
    secret, password = given.secret.get_secret_value(), given.password.get_secret_value()
    await on_the_hashing_thread(lambda: accounts.set_up(ctx, secret, given.name, password))
    made_at(response, "/session")
    return _me(given.name, Role.ADMINISTRATOR)


@router.get("/accounts")
def list_accounts(ctx: MayAdminister) -> Page[Account]:
    """All accounts with their roles."""
    return whole(Account.model_validate(row) for row in accounts.every(ctx))


@router.post("/accounts", status_code=201)
def add_account(response: Response, ctx: MayAdminister, given: AccountNew) -> Account:
    """Add an account."""
    password = given.password.get_secret_value() if given.password else None
    account_id = accounts.add(ctx, given.name, password, given.role, given.directory)
    made_at(response, f"/accounts/{account_id}")
    return _account(response, accounts.one(ctx, account_id))


@router.get("/accounts/{account_id}")
def show_account(response: Response, ctx: MayAdminister, account_id: Number) -> Account:
    """One account."""
    return _account(response, accounts.one(ctx, account_id))


def _account(response: Response, row: AccountRow) -> Account:
    tag(response, accounts.version_of(row))
    return Account.model_validate(row)


@router.patch("/accounts/{account_id}")
def edit_account(
    response: Response,
    ctx: MayAdminister,
    account_id: Number,
    given: AccountEdit,
    if_match: IfMatch = None,
) -> Account:
    """Change role, password or directory, disable or enable; `If-Match` refuses one that was
    changed meanwhile.
    """
    password = given.password.get_secret_value() if given.password else None
    edited = accounts.edit(
        ctx,
        account_id,
        role=given.role,
        password=password,
        directory=given.directory,
        disabled=given.disabled,
        version=version_in(if_match),
    )
    return _account(response, edited)


@router.get("/tokens")
def list_tokens(ctx: MayLook, account: Whose = None) -> Page[Token]:
    """Your living tokens; for administrators, those of any account."""
    return whole(Token.model_validate(row) for row in accounts.tokens(ctx, account))


@router.post("/tokens", status_code=201)
def add_token(response: Response, ctx: MayLook, given: TokenNew) -> TokenSecret:
    """Make a token for scripts; its secret is shown this once. It takes a session that was opened
    with the password.
    """
    token_id, secret = accounts.add_token(ctx, given.name, given.role, given.days, given.purpose)
    made_at(response, f"/tokens/{token_id}")
    return TokenSecret(id=token_id, secret=secret)


@router.get("/tokens/{token_id}")
def show_token(ctx: MayLook, token_id: Number, account: Whose = None) -> Token:
    """One living token; for administrators, one of any account."""
    return Token.model_validate(accounts.token(ctx, token_id, account))


@router.delete("/tokens/{token_id}", status_code=204)
def revoke_token(ctx: MayLook, token_id: Number, account: Whose = None) -> None:
    """Revoke a token at once."""
    accounts.revoke_token(ctx, token_id, account)
