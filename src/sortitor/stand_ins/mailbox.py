"""A mail server that keeps what it is given, and a page on which the mails are read.

For the demonstration and the tests, on loopback: it delivers nothing to anybody.
"""

from __future__ import annotations

import html
import json
import socket
import threading
from collections import deque
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

_MOST = 500
_PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Mailbox of the demonstration</title>
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="refresh" content="3">
<style>
body {{ font-family: system-ui, sans-serif; max-width: 46rem; margin: 2rem auto; padding: 0 1rem;
  color: #222; background: #f4f2ec; }}
article {{ background: #fff; border: 1px solid #ddd; border-radius: 6px; padding: .8rem 1rem;
  margin-bottom: .8rem; }}
h2 {{ font-size: 1rem; margin: 0 0 .3rem; }}
p {{ margin: 0 0 .5rem; color: #555; }}
pre {{ white-space: pre-wrap; font: inherit; margin: 0; }}
</style></head><body><h1>Mailbox of the demonstration</h1>
<p>Mails that the service sent, newest first. Nobody else receives them.</p>
{mails}</body></html>"""
_MAIL = """<article><h2>{subject}</h2><p>{to} · {date}</p><pre>{body}</pre></article>"""


@dataclass
class Mailbox:
    """What was given to the mail server; `refuse` makes it answer with that reply instead. Mails
    come while the others are read: whoever reads has a copy.
    """

    mails: deque[EmailMessage] = field(default_factory=lambda: deque(maxlen=_MOST))
    refuse: str = ""

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:  # noqa: N802 - aiosmtpd calls it so
        """Keep a mail (RFC 5321 §4.1.1.4)."""
        if self.refuse:
            return self.refuse
        content = envelope.content
        assert isinstance(content, bytes)
        mail = message_from_bytes(content, policy=policy.default)
        assert isinstance(mail, EmailMessage)
        self.mails.append(mail)
        return "250 Kept"

    def to(self, address: str) -> list[EmailMessage]:
        """The mails to an address, oldest first."""
        return [mail for mail in self.mails.copy() if address in str(mail["To"])]

    def as_json(self) -> str:
        """The mails for a program: to, subject, body, oldest first."""
        lines = [
            {"to": str(mail["To"]), "subject": str(mail["Subject"]), "body": mail.get_content()}
            for mail in self.mails.copy()
        ]
        return json.dumps(lines)

    def as_page(self) -> str:
        """The mails as a page."""
        shown = [
            _MAIL.format(
                subject=html.escape(str(mail["Subject"])),
                to=html.escape(str(mail["To"])),
                date=html.escape(str(mail["Date"])),
                body=html.escape(mail.get_content()),
            )
            for mail in reversed(self.mails.copy())
        ]
        return _PAGE.format(mails="".join(shown) or "<p>No mails yet.</p>")


@dataclass
class MailServer:
    """The mailbox with its server and, where a port is given, its page; a context manager."""

    mailbox: Mailbox = field(default_factory=Mailbox)
    port: int = 0
    page_port: int | None = None
    _controller: Controller | None = None
    _pages: ThreadingHTTPServer | None = None

    def __enter__(self) -> MailServer:
        self.port = self.port or _free_port()
        self._controller = Controller(self.mailbox, hostname="127.0.0.1", port=self.port)
        self._controller.start()
        if self.page_port is not None:
            self._pages = ThreadingHTTPServer(
                ("127.0.0.1", self.page_port), _pages_of(self.mailbox)
            )
            self.page_port = self._pages.server_port
            threading.Thread(target=self._pages.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._controller is not None:
            self._controller.stop()
        if self._pages is not None:
            self._pages.shutdown()
            self._pages.server_close()


def _free_port() -> int:
    """A port that nobody listens on; the server itself takes no 0."""
    with socket.socket() as line:
        line.bind(("127.0.0.1", 0))
        found: int = line.getsockname()[1]
        return found


def _pages_of(mailbox: Mailbox) -> type[BaseHTTPRequestHandler]:
    class Pages(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            as_json = self.path == "/mails.json"
            content = (mailbox.as_json() if as_json else mailbox.as_page()).encode()
            media = "application/json" if as_json else "text/html; charset=utf-8"
            self.send_response(200)
            self.send_header("Content-Type", media)
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            self.wfile.write(content)

        def log_message(self, *_: Any) -> None:
            """The demonstration's terminal is for the service."""

    return Pages
