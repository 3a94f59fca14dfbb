"""Accounts are tried from the service, with a name and a password that nobody keeps."""

from __future__ import annotations

import base64
import socketserver
import ssl
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, Literal

import pytest
from tests.worlds import World

from sortitor.client.errors import Refused
from sortitor.core.vocabulary import Role
from sortitor.schemas.kits import AccountPayload
from sortitor.stand_ins.directory import write_certificates

OTHER = "مرساة وغلاية"
USER, PASSWORD = "maud@wrenmoor.example", "kettle and anchor"


class MailBox(socketserver.StreamRequestHandler):
    """As much of IMAP4 as signing in takes."""

    def handle(self) -> None:
        self.wfile.write(b"* OK ready\r\n")
        for line in self.rfile:
            tag, command, *rest = line.decode().strip().split(" ", 2)
            if command == "CAPABILITY":
                self.wfile.write(f"* CAPABILITY IMAP4rev1\r\n{tag} OK done\r\n".encode())
            elif command == "AUTHENTICATE":
                self.wfile.write(b"+ \r\n")
                right = base64.b64decode(self.rfile.readline()).decode() == f"\0{USER}\0{OTHER}"
                self.wfile.write(f"{tag} {'OK in' if right else 'NO wrong'}\r\n".encode())
            elif command == "LOGIN":
                right = rest == [f'{USER} "{PASSWORD}"']
                self.wfile.write(f"{tag} {'OK in' if right else 'NO wrong'}\r\n".encode())


class Silent(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        self.wfile.write(b"HTTP/1.1 400 Bad Request\r\n\r\n")


class Calendar(BaseHTTPRequestHandler):
    """CalDAV at /dav, to which the well-known place leads."""

    def do_PROPFIND(self) -> None:
        basic = base64.b64encode(f"{USER}:{PASSWORD}".encode()).decode()
        status, place = 207, None
        if self.path == "/.well-known/caldav":
            status, place = 301, "/dav/"
        elif self.path == "/.well-known/carddav":
            status, place = 301, self.server.leads_to  # type: ignore[attr-defined]
        elif self.headers["Authorization"] != f"Basic {basic}":
            status = 401
        self.send_response(status)
        if place:
            self.send_header("Location", place)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        """Nothing."""


class Server(socketserver.ThreadingTCPServer):
    daemon_threads = True
    allow_reuse_address = True


@contextmanager
def serving(server: socketserver.BaseServer) -> Iterator[int]:
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield server.server_address[1]  # type: ignore[index]
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def listening(handler: Any, context: ssl.SSLContext | None = None) -> Server:
    server = Server(("127.0.0.1", 0), handler)
    if context is not None:
        server.socket = context.wrap_socket(server.socket, server_side=True)
    return server


def account(
    port: int, service: Literal["mail", "calendar", "contacts"] = "mail", tls: bool = False
) -> AccountPayload:
    return AccountPayload(service=service, server="localhost", port=port, tls=tls)


@pytest.fixture
def near(make_world: Callable[..., World]) -> World:
    return make_world(source_networks="127.0.0.0/8, ::1/128")


def test_mail_is_tried_and_nothing_is_kept(near: World) -> None:
    s = near.client()
    with serving(listening(MailBox)) as port:
        found = s.items.try_account(account(port), USER, PASSWORD)
        assert (found.ok, "in clear" in found.words) == (True, True)
        assert s.items.try_account(account(port), USER, OTHER).ok
        found = s.items.try_account(account(port), USER, "wrong")
        assert not found.ok
        assert "does not take this name and password" in found.words
        found = s.items.try_account(account(port, tls=True), USER, PASSWORD)
        assert "no TLS" in found.words
    found = s.items.try_account(account(port), USER, PASSWORD)
    assert "cannot be reached" in found.words
    with serving(listening(Silent)) as port:
        assert not s.items.try_account(account(port), USER, PASSWORD).ok
    told = list(s.journal.list(most=6))
    assert {entry.operation for entry in told} == {"account.trial"}
    assert told[-1].summary == "Mail at localhost tried: signed in"
    [(everything,)] = near.rows("SELECT string_agg(t::text, ' ') FROM journal t")
    assert PASSWORD not in str(everything)


def test_mail_over_tls(near: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    s = near.client()
    write_certificates(tmp_path, "localhost")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(tmp_path / "server.pem", tmp_path / "server.key")
    with serving(listening(MailBox, context)) as port:
        found = s.items.try_account(account(port, tls=True), USER, PASSWORD)
        assert "certificate is not trusted" in found.words
        monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "authority.pem"))
        found = s.items.try_account(account(port, tls=True), USER, PASSWORD)
        assert (found.ok, found.words) == (True, "Signed in at localhost.")


def test_calendars_and_contacts(near: World) -> None:
    s = near.client()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Calendar)
    with serving(server) as port:
        assert s.items.try_account(account(port, "calendar"), USER, PASSWORD).ok
        found = s.items.try_account(account(port, "calendar"), USER, "wrong")
        assert "does not take this name and password" in found.words
        # The password is not taken along to another server, nor to another way of speaking.
        for leads_to in ("http://elsewhere.example/dav/", f"https://localhost:{port}/dav/"):
            server.leads_to = leads_to  # type: ignore[attr-defined]
            found = s.items.try_account(account(port, "contacts"), USER, PASSWORD)
            assert "leads on to" in found.words
    with serving(listening(MailBox)) as port:
        assert not s.items.try_account(account(port, "calendar"), USER, PASSWORD).ok


def test_only_allowed_networks_and_people_are_asked(world: World) -> None:
    with serving(listening(MailBox)) as port:
        found = world.client().items.try_account(account(port), USER, PASSWORD)
        assert (found.ok, "no public address" in found.words) == (False, True)
        with pytest.raises(Refused, match="may not"):
            world.client(Role.VIEWER).items.try_account(account(port), USER, PASSWORD)
