"""What the registry knows: devices by reseller and order, servers with tokens, and which server
each device is assigned to. Nothing of HTTP.
"""

from __future__ import annotations

import bisect
import hashlib
import json
import re
import secrets
import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from joserfc import jwe
from joserfc.jwk import RSAKey

_NO_SHEET: dict[str, Any] = {"sheet": None, "sheet_digest": None}
#: A token is good for a year.
TOKEN_DAYS = 365


class Refused(Exception):
    """What the registry does not do, with a code and words; `status` as HTTP says it."""

    def __init__(self, status: int, code: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.code, self.detail = status, code, detail


@dataclass(slots=True)
class Held:
    """A device; `seq` is the number of the last change of it, `blank` whether nothing was put on
    it yet.
    """

    id: str
    serial: str
    reseller: str
    added_at: str
    seq: int
    order: str | None = None
    maker: str | None = None
    model: str | None = None
    platform: str | None = None
    imei: str | None = None
    imei2: str | None = None
    server: str | None = None
    sheet_digest: str | None = None
    sheet: dict[str, Any] | None = None
    blank: bool = True
    released: bool = False

    def told(self, server: str) -> dict[str, Any]:
        """The device as a page tells it to a server."""
        names = ("id", "serial", "imei", "imei2", "maker", "model", "platform", "order", "reseller")
        told = {name: getattr(self, name) for name in names}
        gone = self.server != server or self.released
        return {
            **told,
            "added_at": self.added_at,
            "sheet_digest": self.sheet_digest,
            "removed": gone,
        }


@dataclass(slots=True)
class Server:
    """A customer's server: digests of its token, and from whom it is assigned everything."""

    name: str
    token_digest: str = ""
    token_ends_at: str = ""
    takes_from: list[str] = field(default_factory=list)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _wall_now() -> datetime:
    return datetime.now(UTC)


class Shelf:
    """The registry's books, in memory; with a file they are kept in it after every change of the
    office.
    """

    def __init__(
        self,
        name: str = "Registry",
        file: Path | None = None,
        now: Callable[[], datetime] = _wall_now,
    ) -> None:
        self.name = name
        self.now = now
        self._file = file
        self._lock = threading.RLock()
        self._held: dict[str, Held] = {}
        self._by_serial: dict[str, str] = {}
        self._log: list[tuple[int, str]] = []
        self._seq = 0
        #: Cursors of another age have lapsed.
        self._age = 0
        self.servers: dict[str, Server] = {}
        if file is not None and file.exists():
            self._load(json.loads(file.read_text()))

    # ---- keeping

    def _load(self, kept: dict[str, Any]) -> None:
        for one in kept["devices"]:
            held = Held(**one)
            self._held[held.id] = held
            self._by_serial[held.serial] = held.id
        self._seq, self._age = kept["seq"], kept["age"]
        self._log = sorted((held.seq, held.id) for held in self._held.values())
        self.servers = {one["name"]: Server(**one) for one in kept["servers"]}

    def keep(self) -> None:
        """Write the books down, where they are kept."""
        if self._file is None:
            return
        with self._lock:
            kept = {
                "devices": [asdict(held) for held in self._held.values()],
                "seq": self._seq,
                "age": self._age,
                "servers": [asdict(server) for server in self.servers.values()],
            }
        beside = self._file.with_suffix(".new")
        beside.write_text(json.dumps(kept))
        beside.replace(self._file)

    def _moved(self, held: Held) -> None:
        self._seq += 1
        held.seq = self._seq
        self._log.append((self._seq, held.id))

    # ---- the office

    def add_server(self, name: str) -> Server:
        """A customer's server."""
        with self._lock:
            return self.servers.setdefault(name, Server(name))

    def make_token(self, server_name: str, certificate: bytes, days: float = TOKEN_DAYS) -> str:
        """A token for a server, encrypted for the key of a certificate (JWE, RFC 7516); the former
        one ends once the new one is used.
        """
        server = self.servers.get(server_name)
        if server is None:
            raise Refused(404, "no_server", f"There is no server {server_name}.")
        try:
            public = x509.load_pem_x509_certificate(certificate).public_key()
        except ValueError as error:
            raise Refused(422, "no_certificate", "This is no certificate.") from error
        pem = public.public_bytes(
            serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo
        )
        token, now = secrets.token_urlsafe(32), self.now()
        ends = now + timedelta(days=days)
        claims = {
            "iss": self.name,
            "aud": server_name,
            "jti": secrets.token_hex(8),
            "iat": int(now.timestamp()),
            "exp": int(ends.timestamp()),
            "token": token,
        }
        with self._lock:
            server.token_digest, server.token_ends_at = _digest(token), ends.isoformat()
        self.keep()
        header = {"alg": "RSA-OAEP-256", "enc": "A256GCM"}
        key = RSAKey.import_key(pem)
        return jwe.encrypt_compact(header, json.dumps(claims).encode(), key, [*header.values()])

    def accept_token(self, server_name: str, token: str, ends_at: datetime) -> None:
        """Let a server in with a token that was made elsewhere, as a demonstration has it."""
        server = self.add_server(server_name)
        server.token_digest, server.token_ends_at = _digest(token), ends_at.isoformat()

    def deliver(
        self, reseller: str, order: str, devices: Iterable[dict[str, Any]], added_at: str
    ) -> int:
        """A reseller's order; gives how many devices are new."""
        count = 0
        with self._lock:
            for one in devices:
                serial = str(one["serial"]).strip().upper()
                known = self._by_serial.get(serial)
                if known is not None:
                    held = self._held[known]
                    # Only the reseller brings back what was released.
                    held.released, held.server = False, None
                else:
                    number = f"R{len(self._held) + 1:08d}"
                    held = Held(number, serial, reseller, added_at, 0)
                    self._held[number] = held
                    self._by_serial[serial] = number
                    count += 1
                for name in ("maker", "model", "platform", "imei", "imei2"):
                    if one.get(name):
                        setattr(held, name, str(one[name]))
                held.order, held.reseller = order, reseller
                held.blank = bool(one.get("blank", True))
                taking = (s for s in self.servers.values() if reseller in s.takes_from)
                if (server := next(taking, None)) is not None:
                    held.server = server.name
                self._moved(held)
        self.keep()
        return count

    def lapse(self) -> None:
        """Let every cursor that was given out lapse."""
        with self._lock:
            self._age += 1

    # ---- what a server asks

    def server_of(self, token: str) -> Server:
        """The server that a token lets in. Raises Refused."""
        digest = _digest(token)
        for server in self.servers.values():
            if secrets.compare_digest(server.token_digest, digest):
                if datetime.fromisoformat(server.token_ends_at) <= self.now():
                    ended = server.token_ends_at[:10]
                    raise Refused(401, "token_ended", f"the token ended on {ended}")
                return server
        raise Refused(401, "token_unknown", "the token is not known, or another was made since")

    def page(
        self, server: Server, cursor: str | None, limit: int
    ) -> tuple[list[dict[str, Any]], str, bool]:
        """Devices that changed since a cursor, in the order of their last changes, where the next
        page begins, and whether there is one.
        """
        with self._lock:
            age, begin = (self._age, 0) if cursor is None else _read(cursor)
            if age != self._age:
                raise Refused(410, "cursor_lapsed", "the cursor has lapsed; begin anew")
            place = bisect.bisect_right(self._log, (begin, "\uffff"))
            told: list[dict[str, Any]] = []
            last = begin
            while place < len(self._log) and len(told) < limit:
                seq, number = self._log[place]
                place += 1
                last = seq
                held = self._held[number]
                if held.seq != seq:
                    continue
                line = held.told(server.name)
                if not (cursor is None and line["removed"]):
                    told.append(line)
            more = place < len(self._log)
            # Whoever has read to the end goes on from here, lapsed or not.
            end = last if more else max(self._seq, last)
            following = f"c{self._age}.{end}"
        return told, following, more

    def all(self) -> list[Held]:
        """Every device that is not released."""
        with self._lock:
            return [held for held in self._held.values() if not held.released]

    def everything(self, server_name: str) -> list[dict[str, Any]]:
        """All devices of a server, at once."""
        with self._lock:
            told = [held.told(server_name) for held in self._held.values()]
        return [one for one in told if not one["removed"]]

    def find(self, query: str, limit: int) -> list[Held]:
        """Devices of a serial number, IMEI, order or reseller, newest first."""
        text = query.strip().upper()
        with self._lock:
            found = [
                held
                for held in self._held.values()
                if not held.released
                and (
                    held.serial.startswith(text)
                    or text in (held.id, held.imei, held.imei2)
                    or text in ((held.order or "").upper(), held.reseller.upper())
                )
            ]
        return sorted(found, key=lambda held: (held.added_at, held.id), reverse=True)[:limit]

    def act(
        self,
        server: Server,
        act: str,
        devices: Sequence[str],
        reseller: str | None,
        sheet: dict[str, Any] | None,
        digest: str | None,
        trying: bool,
    ) -> tuple[list[str], dict[str, str]]:
        """Do something with devices, named by their numbers here or serial numbers; gives those for
        which it was done as they were named, and why not for the others.
        """
        done: list[str] = []
        refused: dict[str, str] = {}
        with self._lock:
            named = list(devices)
            if act == "assign" and reseller:
                named += [h.id for h in self._held.values() if h.reseller == reseller]
                if not trying and reseller not in server.takes_from:
                    server.takes_from.append(reseller)
            for name in dict.fromkeys(named):
                why = self._do(server, act, name, sheet, digest, trying)
                if why is None:
                    done.append(name)
                else:
                    refused[name] = why
        if not trying:
            self.keep()
        return done, refused

    def _do(
        self,
        server: Server,
        act: str,
        name: str,
        sheet: dict[str, Any] | None,
        digest: str | None,
        trying: bool,
    ) -> str | None:
        text = name.strip().upper()
        held = self._held.get(text) or self._held.get(self._by_serial.get(text, ""))
        if act == "bring-in":
            return self._bring_in(server, held, text, trying)
        if held is None or held.released:
            return "not known here"
        wanted = (None, server.name) if act == "assign" else (server.name,)
        if held.server not in wanted:
            return "assigned to another server" if held.server else "not assigned to this server"
        changes = {
            "assign": {"server": server.name},
            "unassign": {"server": None, **_NO_SHEET},
            "release": {"released": True, "server": None, **_NO_SHEET},
            "set-sheet": {"sheet": sheet, "sheet_digest": digest},
            "clear-sheet": _NO_SHEET,
        }[act]
        if not trying and any(getattr(held, key) != value for key, value in changes.items()):
            for key, value in changes.items():
                setattr(held, key, value)
            self._moved(held)
        return None

    def _bring_in(self, server: Server, held: Held | None, serial: str, trying: bool) -> str | None:
        """A device that came by another way may come in while it is blank."""
        if held is None:
            return "its reseller does not know it; only what it sold can come in"
        if not held.blank:
            return "not blank: it was set up already, and must be wiped first"
        if held.server not in (None, server.name):
            return "assigned to another server"
        if not trying:
            held.server, held.released = server.name, False
            self._moved(held)
        return None


def _read(cursor: str) -> tuple[int, int]:
    found = re.fullmatch(r"c(\d{1,9})\.(\d{1,18})", cursor, re.ASCII)
    if found is None:
        raise Refused(400, "bad_cursor", "this is no cursor of this registry")
    return int(found[1]), int(found[2])
