# Made by tools/async_client.py; change the module of the same name one folder up.
"""Signing in, accounts and tokens."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sortitor.client.aio.noun import Noun
from sortitor.core.vocabulary import Purpose, Role
from sortitor.schemas import accounts as a


class Accounts(Noun):
    """Signing in, accounts and tokens."""

    async def sign_in(self, name: str, password: str) -> a.Me:
        """Sign in with a password; the session lasts as long as this client.

        >>> s.accounts.sign_in("Quay phones", password)
        """
        self._t.http.headers["X-Sortitor-Console"] = "client"
        return await self._t.call(
            a.Me, "POST", "/session", json={"name": name, "password": password}
        )

    async def me(self) -> a.Me:
        """Who is signed in.

        >>> s.accounts.me()
        """
        return await self._t.call(a.Me, "GET", "/session")

    async def sign_out(self) -> None:
        """End the session.

        >>> s.accounts.sign_out()
        """
        await self._t.send("DELETE", "/session")

    async def first(self, secret: str, name: str, password: str) -> a.Me:
        """Make the first administrator with the one-time secret.

        >>> s.accounts.first(secret, "Quay phones", password)
        """
        return await self._t.call(
            a.Me, "POST", "/setup", json={"secret": secret, "name": name, "password": password}
        )

    async def list(self) -> Sequence[a.Account]:
        """All accounts.

        >>> for one in s.accounts.list():
        ...     print(one)
        """
        return await self._t.whole(a.Account, "GET", "/accounts")

    async def show(self, account_id: int) -> a.Account:
        """One account.

        >>> s.accounts.show(4)
        """
        return await self._t.call(a.Account, "GET", f"/accounts/{account_id}")

    async def add(
        self, name: str, password: str | None, role: Role, directory: str | None = None
    ) -> a.Account:
        """Add an account: with a password of its own, or with that of a directory.

        >>> s.accounts.add("Quay phones", password, Role.VIEWER)
        """
        given = {"name": name, "password": password, "role": role, "directory": directory}
        return await self._t.call(a.Account, "POST", "/accounts", json=given)

    async def edit(self, account_id: int, **changes: Any) -> a.Account:
        """Change `role`, `password`, `directory` or `disabled`.

        >>> s.accounts.edit(4)
        """
        return await self._t.call(a.Account, "PATCH", f"/accounts/{account_id}", json=changes)

    async def change_password(self, current: str, fresh: str, keep_tokens: bool = False) -> None:
        """Change your own password, in a session that was opened with it.

        >>> s.accounts.change_password(current, fresh)
        """
        given = {"current_password": current, "new_password": fresh, "keep_tokens": keep_tokens}
        await self._t.send("PUT", "/session/password", json=given)

    async def sessions(self, account_id: int | None = None) -> Sequence[a.Session]:
        """Your living sessions, or those of an account.

        >>> s.accounts.sessions()
        """
        return await self._t.whole(a.Session, "GET", "/sessions", params={"account": account_id})

    async def end_session(self, session_id: int, account_id: int | None = None) -> None:
        """End a session of yours, or of an account.

        >>> s.accounts.end_session(31)
        """
        await self._t.send("DELETE", f"/sessions/{session_id}", params={"account": account_id})

    async def tokens(self, account_id: int | None = None) -> Sequence[a.Token]:
        """Your living tokens, or those of an account.

        >>> s.accounts.tokens()
        """
        return await self._t.whole(a.Token, "GET", "/tokens", params={"account": account_id})

    async def token(self, token_id: int, account_id: int | None = None) -> a.Token:
        """One living token of yours, or of an account.

        >>> s.accounts.token(7)
        """
        return await self._t.call(
            a.Token, "GET", f"/tokens/{token_id}", params={"account": account_id}
        )

    async def add_token(
        self, name: str, role: Role, days: int = 90, purpose: Purpose = Purpose.INTERFACE
    ) -> a.TokenSecret:
        """Make a token; the secret is given this once.

        >>> s.accounts.add_token("Quay phones", Role.VIEWER)
        """
        return await self._t.call(
            a.TokenSecret,
            "POST",
            "/tokens",
            json=a.TokenNew(name=name, role=role, days=days, purpose=purpose),
        )

    async def revoke_token(self, token_id: int, account_id: int | None = None) -> None:
        """Revoke a token of yours, or of an account.

        >>> s.accounts.revoke_token(7)
        """
        await self._t.send("DELETE", f"/tokens/{token_id}", params={"account": account_id})
