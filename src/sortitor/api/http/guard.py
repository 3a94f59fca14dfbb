"""What stands before every route: rates, places, a time limit, what no request may hold, and the
headers of every answer.
"""

from __future__ import annotations

import asyncio
from contextlib import suppress

from fastapi import Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from sortitor.api.http import problems
from sortitor.api.http.rates import Allowance, Caller, Counter, caller_of
from sortitor.core.errors import BadInput, OutOfTime, SlowDown, SortitorError
from sortitor.operations.context import Leash

#: Their answers hold data, or take work.
_DATA = ("/api/", "/scim/", "/metrics", "/readyz")
_CHECK_INS = "/api/v1/agent/check-in"
_SIGN_INS = {("POST", "/api/v1/session"), ("POST", "/api/v1/setup")}
_STREAMS = "/events"
#: Files on their way take as long as they need: what stands still is ended elsewhere.
_FILES = ("/api/v1/files", "/api/v1/agent/files/")
#: From here on a request is looked after: whether somebody still waits, and for how long.
_LOOK_AFTER_SECONDS = 1.0
_LAST_SECONDS = 5.0


class Guard:
    """See the module. `state["leash"]` is the request's time limit, which the context takes
    along.
    """

    def __init__(
        self, app: ASGIApp, counter: Counter, seconds: float, tls: bool, base: str
    ) -> None:
        self._app, self._counter, self._seconds, self._tls = app, counter, seconds, tls
        self._base = base

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        answering = _Answer(scope, send, self._tls, self._base)
        if scope["path"].startswith("/scim/") and scope["path"].endswith("/"):
            # Some providers end every address with a slash.
            scope = {**scope, "path": scope["path"].rstrip("/")}
        if scope["method"] == "HEAD":
            # What GET says, without its body (RFC 9110 §9.3.2).
            scope["state"]["bare"] = True
            scope = {**scope, "method": "GET"}
        try:
            _refuse_nul(scope)
            await self._admit(scope, receive, answering)
        except SortitorError as error:
            await problems.respond(Request(scope), error)(scope, receive, answering)

    async def _admit(self, scope: Scope, receive: Receive, send: _Answer) -> None:
        path: str = scope["path"]
        if not path.startswith(_DATA):
            await self._app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        client = scope.get("client")
        caller = caller_of(
            client[0] if client else "",
            headers.get(b"authorization", b""),
            headers.get(b"cookie", b""),
        )
        scope.setdefault("state", {})["allowance"] = self._count_before(scope, caller)
        if scope["method"] == "OPTIONS":
            # What is possible at an address (RFC 9110 §9.3.7); nothing is asked of it.
            await problems.possible(Request(scope))(scope, receive, send)
            self._count_after(scope, caller, send.status)
            return
        if path.startswith(_CHECK_INS) or path.endswith(_STREAMS):
            await self._bounded(scope, receive, send)
        else:
            async with self._counter.slot(caller.key):
                await self._bounded(scope, receive, send)
        self._count_after(scope, caller, send.status)

    def _count_before(self, scope: Scope, caller: Caller) -> Allowance:
        counter, rates = self._counter, self._counter.rates
        counted = None
        if (scope["method"], scope["path"]) in _SIGN_INS:
            counted = ("sign-ins", caller.address, rates.sign_ins_per_minute)
        elif caller.credential is not None and counter.is_known(caller):
            counted = ("requests", caller.credential, rates.account_per_minute)
        if counted is not None:
            counter.count(*counted)
            return counter.allowance(*counted)
        counter.require_room("failed tries", caller.address, rates.failures_per_minute)
        return counter.require_room(
            "requests without an account", caller.address, rates.stranger_per_minute
        )

    def _count_after(self, scope: Scope, caller: Caller, status: int) -> None:
        counter, rates = self._counter, self._counter.rates
        state = scope.get("state", {})
        with suppress(SlowDown):
            if status == 401 or state.get("failed"):
                counter.forget(caller)
                counter.count("failed tries", caller.address, rates.failures_per_minute)
            elif state.get("actor") or state.get("recognised"):
                counter.remember(caller)
            else:
                counter.count(
                    "requests without an account", caller.address, rates.stranger_per_minute
                )

    async def _bounded(self, scope: Scope, receive: Receive, send: _Answer) -> None:
        """The request, ended when its time has passed or nobody waits for it any more."""
        if scope["path"].startswith(_CHECK_INS):
            await self._app(scope, receive, send)
            return
        seconds = None if scope["path"].startswith(_FILES) else self._seconds
        leash = scope.setdefault("state", {})["leash"] = Leash(seconds)
        names = {name for name, _ in scope["headers"]}
        has_body = bool(names & {b"content-length", b"transfer-encoding"})
        hearing = _Hearing(receive, has_body)
        work = asyncio.ensure_future(self._app(scope, hearing, send))
        try:
            done, _ = await asyncio.wait({work}, timeout=_LOOK_AFTER_SECONDS)
            while not done:
                gone = hearing.gone()
                if leash.over or gone:
                    await asyncio.to_thread(leash.end)
                    if gone and scope["path"].endswith(_STREAMS):
                        break
                    done, _ = await asyncio.wait({work}, timeout=_LAST_SECONDS)
                    break
                done, _ = await asyncio.wait({work}, timeout=_LOOK_AFTER_SECONDS)
            if done:
                await work
            elif not send.status:
                raise OutOfTime
        finally:
            work.cancel()
            hearing.close()


class _Hearing:
    """The messages of a request, which can be asked whether the caller has left."""

    def __init__(self, receive: Receive, has_body: bool) -> None:
        self._receive = receive
        self._body_is_there = not has_body
        self._kept: list[Message] = []
        self._next: asyncio.Future[Message] | None = None

    async def __call__(self) -> Message:
        if self._kept:
            return self._kept.pop(0)
        if not self._body_is_there:
            # Nobody asks beside, and what has not come is still to come after a time limit.
            return self._heard(await self._receive())
        self._next = self._next or asyncio.ensure_future(self._receive())
        # Whoever is cancelled while it waits leaves the message to who asks next.
        message = await asyncio.shield(self._next)
        self._next = None
        return self._heard(message)

    def _heard(self, message: Message) -> Message:
        if message["type"] != "http.request" or not message.get("more_body"):
            self._body_is_there = True
        return message

    def gone(self) -> bool:
        """Whether the caller has left; only known once the body is there whole."""
        if not self._body_is_there:
            return False
        self._next = self._next or asyncio.ensure_future(self._receive())
        if not self._next.done():
            return False
        message = self._next.result()
        if message["type"] == "http.disconnect":
            return True
        self._kept.append(message)
        self._next = None
        return False

    def close(self) -> None:
        """Nobody asks any more."""
        if self._next is not None:
            self._next.cancel()


class _Answer:
    """Sends an answer with the headers that every answer has, and remembers its status."""

    def __init__(self, scope: Scope, send: Send, tls: bool, base: str) -> None:
        self._base = base.encode()
        self._send, self._bare = send, scope["method"] == "HEAD"
        self._state = scope.setdefault("state", {})
        # Whoever shows a token may keep an answer and ask whether it still holds; a browser with a
        # session may not: others sit down at it.
        self._may_keep = any(name == b"authorization" for name, _ in scope["headers"])
        self._tls = tls or scope.get("scheme") == "https"
        self._data = scope["path"].startswith(_DATA)
        self.status = 0

    async def __call__(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self.status = message["status"]
            message["headers"] = [*self._outside(message), *self._headers(message)]
        elif self._bare and message["type"] == "http.response.body":
            message = {**message, "body": b""}
        await self._send(message)

    def _outside(self, message: Message) -> list[tuple[bytes, bytes]]:
        """The headers with addresses as they are outside, where a proxy puts a path before them."""
        if not self._base:
            return list(message["headers"])
        places = {b"location": b"/", b"link": b"</"}
        return [
            (name, value.replace(begin, begin + self._base[1:] + b"/", 1))
            if (begin := places.get(name)) and value.startswith(begin)
            else (name, value)
            for name, value in message["headers"]
        ]

    def _headers(self, message: Message) -> list[tuple[bytes, bytes]]:
        known = {name.lower() for name, _ in message["headers"]}
        wanted = [(b"x-content-type-options", b"nosniff"), (b"referrer-policy", b"no-referrer")]
        if self._data:
            keeps = self._may_keep and b"etag" in known
            wanted.append((b"cache-control", b"private, no-cache" if keeps else b"no-store"))
            wanted.append((b"vary", b"Accept, Accept-Encoding, Authorization, Cookie"))
            if allowance := self._state.get("allowance"):
                wanted += allowance.headers()
        if self._tls:
            wanted.append((b"strict-transport-security", b"max-age=31536000"))
        return [header for header in wanted if header[0] not in known]


def _refuse_nul(scope: Scope) -> None:
    """PostgreSQL has no NUL in a text, and no name, number or filter has one."""
    if "\0" in scope["path"] or b"%00" in scope["query_string"] or b"\0" in scope["query_string"]:
        raise BadInput(
            "nul", "The address holds a NUL character.", "Leave it out; no value has one."
        )
