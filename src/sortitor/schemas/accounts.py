"""Signing in, accounts and tokens."""

from __future__ import annotations

from pydantic import Field, SecretStr

from sortitor.core.access import Permission
from sortitor.core.vocabulary import Purpose, Role
from sortitor.schemas.base import Answer, Name, Request, SecretAnswer, Time


class SignIn(Request):
    """Name and password of an account."""

    name: Name
    password: SecretStr


class PasswordChange(Request):
    """One's own new password."""

    current_password: SecretStr
    new_password: SecretStr
    keep_tokens: bool = Field(
        default=False, description="Let your tokens live on; they are revoked otherwise."
    )


class SetUp(SignIn):
    """The first administrator, with the one-time secret of the first start."""

    secret: SecretStr


class Me(Answer):
    """Who is signed in, and what they may do."""

    name: str
    role: Role
    permissions: list[Permission] = Field(description="What this caller may do and see.")


class AccountNew(Request):
    """A new account: with a password of its own, or with that of a directory."""

    name: Name
    role: Role
    password: SecretStr | None = None
    directory: Name | None = Field(
        default=None, description="The source whose password it signs in with."
    )


class AccountEdit(Request):
    """What to change of an account; absent fields stay."""

    role: Role | None = None
    password: SecretStr | None = None
    directory: Name | None = Field(
        default=None, description="The source whose password it signs in with from now on."
    )
    disabled: bool | None = None


class Account(Answer):
    """An account."""

    id: int
    name: str
    role: Role
    directory: str | None = Field(
        description="The source whose password it signs in with; else it has one of its own."
    )
    created_at: Time
    disabled_at: Time | None


class TokenNew(Request):
    """A new token for scripts."""

    name: Name
    role: Role = Role.VIEWER
    days: int = Field(default=90, ge=1, le=398)
    purpose: Purpose = Field(
        default=Purpose.INTERFACE,
        description=(
            "`people`: only for an identity provider at /scim/v2; `calendar`: only for the address"
            " /api/v1/calendar/SECRET.ics."
        ),
    )


class Token(Answer):
    """A token without its secret."""

    id: int
    name: str
    role: Role
    purpose: Purpose
    created_at: Time
    expires_at: Time
    used_at: Time | None = Field(description="When it was used last, to the minute.")


class Session(Answer):
    """Somebody who is signed in to the console."""

    id: int
    created_at: Time
    used_at: Time = Field(description="When it was used last, to the minute.")
    expires_at: Time
    address: str | None = Field(description="From where it was opened.")


class TokenSecret(SecretAnswer):
    """A new token; the secret is shown this once."""

    id: int
    secret: str
