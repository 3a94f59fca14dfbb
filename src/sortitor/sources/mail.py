"""Handing mails to a mail server (SMTP, RFC 5321; STARTTLS, RFC 3207; implicit TLS, RFC 8314)."""

from __future__ import annotations

import smtplib
import ssl
from dataclasses import dataclass
from email.errors import MessageError
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import formatdate
from typing import Literal

from sortitor.core.mails import Letter
from sortitor.operations.mail import Undelivered

_TIMEOUT_SECONDS = 20.0
#: From this reply code on, the server will never take the mail (RFC 5321 §4.2.1).
_FOR_GOOD = 500


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where mails are handed over, and in whose name."""

    host: str
    port: int
    sender: str
    security: Literal["none", "starttls", "tls"] = "starttls"
    user: str = ""
    password: str = ""

    def deliver(self, letter: Letter) -> None:
        """Hand a mail over. Raises Undelivered."""
        try:
            message = self._message(letter)
        except (ValueError, MessageError) as error:
            detail = f"{letter.to_address!r} is no mail address: {error}"
            raise Undelivered(detail, for_good=True) from error
        try:
            with self._connected() as line:
                line.send_message(message)
        except smtplib.SMTPRecipientsRefused as error:
            code, words = next(iter(error.recipients.values()))
            raise _refused(code, words) from error
        except smtplib.SMTPResponseException as error:
            # A wrong password is mended at the server or in the settings: worth another try.
            gone = error.smtp_code if not isinstance(error, smtplib.SMTPAuthenticationError) else 0
            raise _refused(gone, error.smtp_error) from error
        except (smtplib.SMTPException, OSError, UnicodeError) as error:
            detail = f"The mail server {self.host}:{self.port} does not take it: {error}"
            raise Undelivered(detail, for_good=isinstance(error, UnicodeError)) from error

    def _connected(self) -> smtplib.SMTP:
        if self.security == "tls":
            context = ssl.create_default_context()
            line: smtplib.SMTP = smtplib.SMTP_SSL(
                self.host, self.port, timeout=_TIMEOUT_SECONDS, context=context
            )
        else:
            line = smtplib.SMTP(self.host, self.port, timeout=_TIMEOUT_SECONDS)
            if self.security == "starttls":
                line.starttls(context=ssl.create_default_context())
        if self.user:
            line.login(self.user, self.password)
        return line

    def _message(self, letter: Letter) -> EmailMessage:
        message = EmailMessage()
        message["From"] = self.sender
        name = " ".join((letter.to_name or "").split())
        message["To"] = Address(display_name=name, addr_spec=letter.to_address)
        message["Subject"] = " ".join(letter.subject.split())
        message["Date"] = formatdate(localtime=False)
        domain = self.sender.rpartition("@")[2].strip("> ") or "localhost"
        message["Message-ID"] = f"<sortitor-{letter.number}@{domain}>"
        # Nobody is to answer a machine (RFC 3834).
        message["Auto-Submitted"] = "auto-generated"
        message.set_content(letter.body)
        return message


def _refused(code: int, words: bytes | str) -> Undelivered:
    text = words.decode(errors="replace") if isinstance(words, bytes) else str(words)
    return Undelivered(f"The mail server answered {code}: {text}", for_good=code >= _FOR_GOOD)
