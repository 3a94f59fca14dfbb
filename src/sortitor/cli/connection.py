"""The connection to the service: from options, environment, or a saved profile."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from functools import update_wrapper
from pathlib import Path
from typing import Any, TypeVar, cast
from urllib.parse import urlsplit

import click
import platformdirs

from sortitor.cli.manner import dry_run
from sortitor.client import Sortitor

Command = TypeVar("Command", bound=Callable[..., Any])

DEFAULT_URL = "http://127.0.0.1:8470"


def profiles_file() -> Path:
    """Where profiles are saved, readable by their owner only."""
    return platformdirs.user_config_path("sortitor") / "profiles.json"


def _profiles() -> dict[str, Any]:
    file = profiles_file()
    try:
        found = json.loads(file.read_text())
    except FileNotFoundError:
        return {}
    except ValueError as error:
        raise click.UsageError(
            f"{file} cannot be read ({error}); correct it or remove it."
        ) from error
    return found if isinstance(found, dict) else {}


def profiles() -> dict[str, dict[str, Any]]:
    """The saved connections by their names."""
    return _profiles()


def save_profile(name: str, url: str, token: str, token_id: int) -> Path:
    """Keep a connection under a name."""
    kept = {"url": url, "token": token, "token_id": token_id}
    return _write(_profiles() | {name: kept})


def forget_profile(name: str) -> None:
    """Let go of a saved connection."""
    _write({one: kept for one, kept in _profiles().items() if one != name})


def _write(profiles: dict[str, Any]) -> Path:
    """Whole or not at all, for the owner's eyes alone from its first byte."""
    file = profiles_file()
    file.parent.mkdir(parents=True, exist_ok=True)
    beside = file.with_suffix(".new")
    beside.unlink(missing_ok=True)
    beside.touch(mode=0o600)
    beside.write_text(json.dumps(profiles, indent=2))
    beside.replace(file)
    return file


def address(obj: dict[str, Any]) -> str:
    """The service's address."""
    return str(obj["url"] or _profiles().get(obj["profile"], {}).get("url") or DEFAULT_URL)


_HELD = "sortitor.held_back"


#: `--dry-run` for what is done at once, without a preview: it goes as far as its first change.
at_once_option = dry_run(_HELD, "Look everything up, and stop before anything is changed.")


def is_held_back() -> bool:
    """Whether the command is to change nothing."""
    return bool(click.get_current_context().meta.get(_HELD))


def _stop_before_changes(method: str, address: str) -> None:
    if method in {"GET", "HEAD"} or urlsplit(address).path.endswith("/preview"):
        return
    click.echo(f"Nothing was changed. It would be done by {method} {address}", err=True)
    raise click.exceptions.Exit(0)


def connect(obj: dict[str, Any]) -> Sortitor:
    """A client for the chosen connection. A saved token goes only to where it was given."""
    url, saved = address(obj), _profiles().get(obj["profile"], {})
    token = obj["token"]
    if not token and _origin(saved.get("url", "")) == _origin(url):
        token = saved.get("token")
    return opened(obj, url, token)


def opened(obj: dict[str, Any], url: str, token: str | None = None) -> Sortitor:
    """A client for this address, in the manner that the command was given."""
    s = Sortitor(url, token)
    if obj.get("verbose"):
        s.tell_requests(_told)
    if is_held_back():
        s.ask_first(_stop_before_changes)
    return s


def _told(method: str, address: str, status: int, seconds: float, request_id: str) -> None:
    click.echo(f"> {method} {address}  {status}  {seconds * 1000:.0f} ms  {request_id}", err=True)


def _origin(url: str) -> tuple[str, str | None, int | None]:
    """Scheme, host and port (RFC 6454)."""
    parts = urlsplit(url)
    port = parts.port or {"http": 80, "https": 443}.get(parts.scheme)
    return parts.scheme, parts.hostname, port


def with_client(command: Command) -> Command:
    """Give a command its client, as the first argument, for as long as it runs."""

    @click.pass_obj
    def run(obj: dict[str, Any], /, *args: Any, **given: Any) -> Any:
        with connect(obj) as s:
            return command(s, *args, **given)

    return cast(Command, update_wrapper(run, command))


def by_name(
    argument: str, word: str, found: Callable[[Sortitor, str], Iterable[Any]]
) -> Callable[[Command], Command]:
    """Let an argument be a number or a name; the command gets the number.

    found: what could be meant by a name, each with `id` and `name`, or `label`.
    """

    def decorate(command: Command) -> Command:
        def run(s: Sortitor, *args: Any, **given: Any) -> Any:
            text = str(given[argument])
            number = number_of(text, word, () if text.isdecimal() else found(s, text))
            return command(s, *args, **{**given, argument: number})

        return cast(Command, update_wrapper(run, command))

    return decorate


def number_of(text: str, word: str, found: Iterable[Any]) -> int:
    """The number of what is called so, among those found; a number is one already."""
    if text.isdecimal():
        return int(text)
    named = [one.id for one in found if _name_of(one).lower() == text.lower()]
    if len(named) == 1:
        return int(named[0])
    if named:
        numbers = ", ".join(map(str, named))
        raise click.UsageError(f"Several are called {text!r}: {numbers}. Give the number.")
    raise click.UsageError(f"There is no {word} {text!r}. Give its number or its whole name.")


def _name_of(one: Any) -> str:
    return str(getattr(one, "name", None) or getattr(one, "label", ""))
