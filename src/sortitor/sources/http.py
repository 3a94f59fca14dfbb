"""Asking by HTTP with limits on time and size, for registries and roster files."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import httpx

from sortitor.operations.sources.ports import SourceFault
from sortitor.sources.distrust import why_distrusted
from sortitor.sources.network import GuardedTransport, Networks

_TIMEOUT = httpx.Timeout(30.0, connect=10.0)
_SLICE_BYTES = 65_536


@dataclass(frozen=True, slots=True)
class Answered:
    """What came back."""

    status: int
    headers: httpx.Headers
    content: bytes


class Line:
    """A connection to one system. Redirects are not followed: they may lead anywhere."""

    def __init__(self, networks: Networks, token: str | None, verify: Any = True) -> None:
        headers = {"user-agent": "sortitor", "accept-encoding": "gzip"}
        if token:
            headers["authorization"] = f"Bearer {token}"
        self._client = httpx.Client(
            transport=GuardedTransport(networks, verify),
            headers=headers,
            timeout=_TIMEOUT,
            follow_redirects=False,
        )

    def __enter__(self) -> Line:
        return self

    def __exit__(self, *_: object) -> None:
        self._client.close()

    def ask(
        self,
        method: str,
        url: str,
        *,
        most_bytes: int,
        most_seconds: float,
        params: Mapping[str, str] | None = None,
        json: Any = None,
        headers: Mapping[str, str] | None = None,
    ) -> Answered:
        """One request. Raises SourceFault where nothing usable comes back in time."""
        until = time.monotonic() + most_seconds
        try:
            with self._client.stream(
                method, url, params=params, json=json, headers=headers
            ) as answer:
                content = bytearray()
                for piece in answer.iter_bytes(_SLICE_BYTES):
                    content += piece
                    if len(content) > most_bytes:
                        raise SourceFault(
                            "too_large",
                            f"The answer is larger than {most_bytes // 1_000_000:,} MB.",
                            "Ask for less, or raise SORTITOR_SOURCE_MEGABYTES.",
                        )
                    if time.monotonic() > until:
                        raise SourceFault(
                            "too_slow",
                            f"The answer did not arrive within {most_seconds:g} seconds.",
                            "Try again later.",
                        )
                return Answered(answer.status_code, answer.headers, bytes(content))
        except httpx.TimeoutException as error:
            raise SourceFault(
                "no_answer", "It does not answer in time.", "Look whether it is running."
            ) from error
        except httpx.InvalidURL as error:
            raise SourceFault("bad_address", str(error), "Correct the address.") from error
        except httpx.HTTPError as error:
            raise _unreachable(error) from error


def _unreachable(error: httpx.HTTPError) -> SourceFault:
    text = str(error) or type(error).__name__
    if "CERTIFICATE_VERIFY_FAILED" in text:
        return SourceFault(
            "certificate_refused",
            f"Its certificate is not trusted: {why_distrusted(text)}.",
            "Let this machine trust whoever signed it, or correct the address.",
        )
    return SourceFault("unreachable", f"It cannot be reached: {text}.", "Look whether it runs.")
