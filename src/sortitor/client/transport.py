"""One HTTP call: retries with idempotency keys, problems as exceptions, answers as models."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, TypeVar

import httpx
from pydantic import BaseModel, TypeAdapter
from tenacity import (
    Retrying,
    retry_if_exception,
    retry_if_result,
    stop_after_attempt,
    wait_exponential,
)

from sortitor.client.errors import (
    Broken,
    FactsMoved,
    Refused,
    SignInNeeded,
    SortitorProblem,
    Unreachable,
)
from sortitor.schemas.base import Page, Problem

Model = TypeVar("Model")
_ATTEMPTS = 3
_PASSING = {502, 503, 504}


def _may_pass(error: BaseException) -> bool:
    """Whether another attempt may fare better; no attempt mends an address that is none."""
    return isinstance(error, httpx.TransportError) and not isinstance(
        error, httpx.UnsupportedProtocol
    )


def _passes(response: httpx.Response) -> bool:
    return response.status_code in _PASSING


#: Tries again what may pass; the last answer or error is given as it is.
_PATIENTLY = Retrying(
    stop=stop_after_attempt(_ATTEMPTS),
    wait=wait_exponential(multiplier=0.4),
    retry=retry_if_exception(_may_pass) | retry_if_result(_passes),
    retry_error_callback=lambda state: state.outcome.result() if state.outcome else None,
)


class Transport:
    """Speaks to one service."""

    def __init__(self, url: str, token: str | None, timeout_seconds: float) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        self.http = httpx.Client(
            base_url=url.rstrip("/") + "/api/v1", headers=headers, timeout=timeout_seconds
        )

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

        def attempt() -> httpx.Response:
            return self.http.request(
                method, path, json=body, params=params, content=content, headers=sent
            )

        try:
            response = _PATIENTLY(attempt)
        except httpx.TransportError as error:
            raise Unreachable(f"{self.http.base_url} does not answer: {error}") from error
        if response.is_error:
            raise _problem(response)
        return response

    def call(self, answer: type[Model], method: str, path: str, **given: Any) -> Model:
        """The response as a model."""
        return TypeAdapter(answer).validate_json(self.send(method, path, **given).content)

    def whole(self, item: type[Model], method: str, path: str, **given: Any) -> list[Model]:
        """The items of a list that is one page."""
        page: Page[Model] = self.call(Page[item], method, path, **given)  # type: ignore[valid-type]
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
            raise Unreachable(f"{self.http.base_url} does not answer: {error}") from error

    def upload(
        self, path: str, pieces: Iterator[bytes], params: Mapping[str, str], size: int
    ) -> bytes:
        """Send a body as it is read, once; gives the answer's bytes."""
        headers = {"Content-Type": "application/octet-stream", "Content-Length": str(size)}
        try:
            response = self.http.post(path, content=pieces, params=params, headers=headers)
        except httpx.TransportError as error:
            raise Unreachable(f"{self.http.base_url} does not answer: {error}") from error
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
            page: Page[Model] = self.call(Page[item], "GET", path, params=asked)  # type: ignore[valid-type]
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
    if problem.status == 401:
        return SignInNeeded(problem)
    if problem.preview is not None:
        return FactsMoved(problem)
    return Broken(problem) if problem.status >= 500 else Refused(problem)
