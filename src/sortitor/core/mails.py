"""The mails that the service writes: whom, about what, in plain words."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime

from sortitor.core.errors import BadInput

#: One address, without a display name: enough to refuse what no server would take (RFC 5321).
_ADDRESS = re.compile(r"[^\s@<>,;:\"\\]{1,64}@[^\s@<>,;:\"\\]{1,190}")


@dataclass(frozen=True, slots=True)
class Letter:
    """A mail as it goes out; `number` makes its Message-ID, so that one sent twice is known."""

    number: int
    to_address: str
    to_name: str | None
    subject: str
    body: str


def check_address(address: str) -> str:
    """The address without blanks around it. Raises BadInput for what is none."""
    found = address.strip()
    if not found.isprintable() or not _ADDRESS.fullmatch(found):
        raise BadInput("bad_address", f"{address!r} is no mail address.", "Correct it.")
    return found


def code_mail(code: str) -> tuple[str, str]:
    """Subject and body of a one-time code."""
    return (
        f"{code} is your code",
        f"Your code is {code}.\n\n"
        "Type it on the device that you are setting up. It holds for 10 minutes.\n"
        "If you are not setting up a device, do nothing: without the code nobody gets in with"
        " your name.\n",
    )


def pass_mail(name: str, label: str, code: str, address: str, until: datetime) -> tuple[str, str]:
    """Subject and body of a pass for one person."""
    return (
        f"Your code for a new device: {label}",
        f"Hello {name},\n\n"
        f"with this code you can set up your device:\n\n    {code}\n\n"
        f"Open this address on the device, or type the code when it asks for it:\n\n"
        f"    {address}\n\n"
        f"The code is yours alone; it holds until {until:%d %B %Y, %H:%M} UTC.\n",
    )


def reminder_mail(name: str, label: str, until: datetime) -> tuple[str, str]:
    """Subject and body of a reminder; it does not hold the code, which nobody knows any more."""
    return (
        f"Your device is waiting: {label}",
        f"Hello {name},\n\n"
        f"you were sent a code to set up a device ({label}) and have not used it yet.\n"
        f"It holds until {until:%d %B %Y, %H:%M} UTC. You find it in the mail that came with it;\n"
        "if that is gone, ask your help desk for a new one.\n",
    )


def test_mail() -> tuple[str, str]:
    """Subject and body of a mail that shows that mails go out."""
    return ("Mail from Sortitor works", "This is the test mail that was asked for.\n")
