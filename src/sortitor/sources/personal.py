"""Trying an account of a person: mail by IMAP4 (RFC 9051), calendars and contacts by CalDAV
(RFC 4791) and CardDAV (RFC 6352), found as RFC 6764 has it.
"""

from __future__ import annotations

import imaplib
import socket
import ssl
import threading
from base64 import b64encode
from contextlib import suppress
from urllib.parse import urljoin, urlsplit

from sortitor.core.kits.items import AccountPayload
from sortitor.operations.sources.ports import SourceFault
from sortitor.sources.http import Line
from sortitor.sources.network import Networks

_SECONDS, _MOST_BYTES = 20, 1_000_000
_WELL_KNOWN = {"calendar": "/.well-known/caldav", "contacts": "/.well-known/carddav"}
_MOVED = (301, 302, 303, 307, 308)


def sign_in(account: AccountPayload, user: str, password: str, networks: Networks) -> None:
    """Sign in and out again. Raises SourceFault saying what stands against it."""
    if account.service == "mail":
        _by_imap(account, user, password, networks)
    else:
        _by_dav(account, user, password, networks)


class _Imap(imaplib.IMAP4):
    """IMAP to the address that was checked; the certificate is held against the name."""

    def __init__(self, account: AccountPayload, address: str) -> None:
        self._account, self._address = account, address
        super().__init__(account.server, account.port, _SECONDS)

    def _create_socket(self, timeout: float | None) -> socket.socket:
        plain = socket.create_connection((self._address, self._account.port), timeout)
        if not self._account.tls:
            return plain
        context = ssl.create_default_context()
        return context.wrap_socket(plain, server_hostname=self._account.server)


def _by_imap(account: AccountPayload, user: str, password: str, networks: Networks) -> None:
    address = networks.address_of(account.server, account.port)
    try:
        line = _Imap(account, address)
    except ssl.SSLCertVerificationError as error:
        words = f"Its certificate is not trusted: {error.verify_message}."
        raise SourceFault("certificate_refused", words, "Let this machine trust it.") from error
    except ssl.SSLError as error:
        words = "It speaks no TLS on this port."
        raise SourceFault("no_tls", words, "Look at the port; 993 is usual for mail.") from error
    except (OSError, imaplib.IMAP4.error) as error:
        raise _silent(error) from error
    # However slowly it drips, it is over then.
    ending = threading.Timer(_SECONDS, _close, (line,))
    ending.start()
    try:
        if (user + password).isascii():
            line.login(user, password)
        else:
            # The older command takes no other letters (RFC 4616 has them as UTF-8).
            line.authenticate("PLAIN", lambda _: f"\0{user}\0{password}".encode())
    except imaplib.IMAP4.abort as error:
        raise _silent(error) from error
    except imaplib.IMAP4.error as error:
        raise _refused(str(error)) from error
    except OSError as error:
        raise _silent(error) from error
    finally:
        ending.cancel()
        _close(line)


def _close(line: imaplib.IMAP4) -> None:
    with suppress(OSError, imaplib.IMAP4.error):
        line.shutdown()


def _by_dav(account: AccountPayload, user: str, password: str, networks: Networks) -> None:
    scheme = "https" if account.tls else "http"
    root = f"{scheme}://{account.server}:{account.port}"
    basic = b64encode(f"{user}:{password}".encode()).decode()
    headers = {"Authorization": f"Basic {basic}", "Depth": "0"}
    with Line(networks, None) as line:
        url = root + _WELL_KNOWN[account.service]
        for _ in range(3):
            answer = line.ask(
                "PROPFIND", url, most_bytes=_MOST_BYTES, most_seconds=_SECONDS, headers=headers
            )
            if answer.status not in _MOVED:
                break
            url = urljoin(url, answer.headers.get("location", ""))
            if urlsplit(url)[:2] != urlsplit(root)[:2]:
                # The password is for the server that was named, and no other.
                words = f"It leads on to {urlsplit(url).netloc or 'nowhere'}."
                raise SourceFault("leads_on", words, "Name that server instead.")
    if answer.status in (401, 403):
        raise _refused(f"{answer.status}")
    if answer.status != 207:
        words = f"It keeps no {account.service} here: it answered {answer.status}."
        raise SourceFault("not_spoken", words, "Look at the server and the port.")


def _refused(words: str) -> SourceFault:
    said = words.removeprefix("b'").removesuffix("'")[:200]
    return SourceFault(
        "refused",
        f"It does not take this name and password ({said}).",
        "Type them again; some servers want a password of their own for devices.",
    )


def _silent(error: BaseException) -> SourceFault:
    said = error.strerror if isinstance(error, OSError) else None
    words = (said or str(error) or type(error).__name__)[:200]
    return SourceFault("unreachable", f"It cannot be reached: {words}.", "Look whether it runs.")
