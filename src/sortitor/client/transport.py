"""One HTTP call: retries where they are safe, problems as exceptions, answers as models."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator, Mapping
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter, ValidationError
from tenacity import RetryCallState, Retrying, retry_if_exception, retry_if_result

from sortitor.client.errors import SortitorProblem, TimedOut, Unreachable, Unreadable, raised
from sortitor.client.sending import sent_in_pieces
from sortitor.schemas.base import Problem, page_of

Model = TypeVar("Model")
Heard = Callable[[str, str, int, float, str], None]
Asked = Callable[[str, str], None]
_ATTEMPTS = 3
#: Longer than this nobody waits without being asked.
_MOST_SECONDS = 30.0
#: The service says so itself, and has done nothing.
_NOT_NOW = {429, 503}
#: What stands between is at a loss: whether something was done is not known.
_UNCERTAIN = {502, 504}
_READING = {"GET", "HEAD", "OPTIONS"}


def _seconds_told(response: httpx.Response) -> int | None:
    """What `Retry-After` says (RFC 9110 §10.2.3), in seconds from now."""
    told = response.headers.get("retry-after", "")
    try:
        if told.isdecimal():
            return int(told)
        return max(round(parsedate_to_datetime(told).timestamp() - _now(response)), 0)
    except (ValueError, OverflowError):
        return None


def _now(response: httpx.Response) -> float:
    return parsedate_to_datetime(response.headers.get("date", "")).timestamp()


def _wait(state: RetryCallState) -> float:
    """As long as the service asks for; else a little longer each time."""
    outcome = state.outcome
    if outcome is not None and not outcome.failed:
        told = _seconds_told(outcome.result())
        if told is not None:
            return float(told)
    return float(0.4 * 2 ** (state.attempt_number - 1))


def _enough(state: RetryCallState) -> bool:
    return state.attempt_number >= _ATTEMPTS or _wait(state) > _MOST_SECONDS


def _last(state: RetryCallState) -> httpx.Response:
    assert state.outcome is not None
    response: httpx.Response = state.outcome.result()
    return response


def _patiently(is_safe: bool) -> Retrying:
    """Tries again what may fare better. What is not safe to repeat is repeated only where nothing
    has been done: there was no connection, or the service says it is not the moment.
    """

    def may_pass(error: BaseException) -> bool:
        if isinstance(error, httpx.UnsupportedProtocol):
            return False
        passing = httpx.TransportError if is_safe else httpx.ConnectError
        return isinstance(error, passing)

    def passes(response: httpx.Response) -> bool:
        status = response.status_code
        return status in _NOT_NOW or (is_safe and status in _UNCERTAIN)

    return Retrying(
        stop=_enough,
        wait=_wait,
        retry=retry_if_exception(may_pass) | retry_if_result(passes),
        retry_error_callback=_last,
    )


class Transport:
    """Speaks to one service."""

    def __init__(
        self,
        url: str,
        token: str | None,
        timeout_seconds: float = 300,
        connect_seconds: float = 10,
        retries: bool = True,
        jobs: bool = True,
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.http = httpx.Client(
            base_url=url.rstrip("/") + "/api/v1",
            headers=headers,
            timeout=httpx.Timeout(timeout_seconds, connect=connect_seconds),
            # Reading the authorities takes a while, and nothing asks for them in clear.
            verify=not url.startswith("http://"),
        )
        self._retries = retries
        #: Whether long work is handed to a worker.
        self.jobs = jobs
        self.hear: Heard | None = None
        self.ask: Asked | None = None

    def send(
        self,
        method: str,
        path: str,
        *,
        json: Any = None,
        params: Any = None,
        content: bytes | None = None,
        headers: Mapping[str, str] | None = None,
    ) -> httpx.Response:
        """The response, whatever it carries.

        A POST has one Idempotency-Key over all its attempts.
        """
        sent = dict(headers or {})
        if method == "POST":
            sent.setdefault("Idempotency-Key", uuid.uuid4().hex)
        body = json.model_dump(mode="json") if isinstance(json, BaseModel) else json
        if isinstance(params, Mapping):
            params = {name: value for name, value in params.items() if value is not None}
        request = self.http.build_request(
            method, path, json=body, params=params, content=content, headers=sent
        )
        return self._answered(request, method in _READING or method == "POST")

    def _answered(self, request: httpx.Request, is_safe: bool) -> httpx.Response:
        self._ask(request.method, str(request.url))
        try:
            response: httpx.Response
            if self._retries:
                response = _patiently(is_safe)(self.http.send, request)
            else:
                response = self.http.send(request)
        except httpx.TransportError as error:
            raise self._unreachable(error) from error
        if self.hear is not None:
            self.hear(
                request.method,
                str(request.url),
                response.status_code,
                response.elapsed.total_seconds(),
                response.headers.get("x-request-id", ""),
            )
        if response.is_error:
            raise _problem(response)
        return response

    def _ask(self, method: str, address: str) -> None:
        if self.ask is not None:
            self.ask(method, address)

    def _unreachable(self, error: httpx.TransportError) -> Unreachable:
        if isinstance(error, httpx.TimeoutException) and not isinstance(
            error, httpx.ConnectTimeout
        ):
            return TimedOut(f"{self.http.base_url} did not answer in time.")
        return Unreachable(f"{self.http.base_url} does not answer: {error}")

    def call(self, answer: type[Model], method: str, path: str, **given: Any) -> Model:
        """The response as a model."""
        response = self.send(method, path, **given)
        try:
            return TypeAdapter(answer).validate_json(response.content)
        except ValidationError as error:
            raise Unreadable(f"{method} {response.url}", error) from error

    def whole(self, item: type[Model], method: str, path: str, **given: Any) -> list[Model]:
        """The items of a list that is one page."""
        page = self.call(page_of(item), method, path, **given)
        return page.items

    def download(
        self, path: str, to: Path, params: Any = None, headers: Mapping[str, str] | None = None
    ) -> None:
        """Write an answer to a file as it comes, however large it is."""
        try:
            with self.http.stream("GET", path, params=params, headers=headers) as response:
                if response.is_error:
                    response.read()
                    raise _problem(response)
                with to.open("wb") as file:
                    for piece in response.iter_bytes():
                        file.write(piece)
        except httpx.TransportError as error:
            raise self._unreachable(error) from error

    def upload(
        self, path: str, pieces: Iterator[bytes], params: Mapping[str, str], size: int
    ) -> bytes:
        """Send a body as it is read, once; gives the answer's bytes."""
        self._ask("POST", f"{self.http.base_url}{path.removeprefix('/')}")
        headers = {"Content-Type": "application/octet-stream", "Content-Length": str(size)}
        try:
            response = self.http.post(
                path, content=sent_in_pieces(pieces), params=params, headers=headers
            )
        except httpx.TransportError as error:
            raise self._unreachable(error) from error
        if response.is_error:
            raise _problem(response)
        return response.content

    def pages(
        self, item: type[Model], path: str, params: Mapping[str, Any], most: int | None = None
    ) -> Iterator[Model]:
        """The items of a list, page by page."""
        cursor, left = None, most
        while left is None or left > 0:
            asked = {name: value for name, value in params.items() if value not in (None, [], ())}
            asked |= {"limit": min(500, left or 500)} | ({"cursor": cursor} if cursor else {})
            page = self.call(page_of(item), "GET", path, params=asked)
            yield from page.items
            left = None if left is None else left - len(page.items)
            cursor = page.next
            if cursor is None:
                return


def _problem(response: httpx.Response) -> SortitorProblem:
    try:
        problem = Problem.model_validate_json(response.content)
    except ValueError:
        problem = Problem(
            type="about:blank",
            title=response.reason_phrase,
            status=response.status_code,
            detail=f"The answer was {response.status_code} {response.reason_phrase}.",
            code="unknown",
        )
    return raised(problem, _seconds_told(response))
