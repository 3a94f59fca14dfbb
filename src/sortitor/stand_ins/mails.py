"""Reading the mails of the mailbox, as somebody does who waits for a code."""

from __future__ import annotations

import json
import re
import time
import urllib.request


def newest_code(page_url: str, address: str, wait_seconds: float = 10.0) -> str | None:
    """The newest one-time code that was mailed to an address, read from the page."""
    until = time.monotonic() + wait_seconds
    while time.monotonic() < until:
        with urllib.request.urlopen(f"{page_url}/mails.json", timeout=5) as answer:
            mails = json.load(answer)
        for mail in reversed(mails):
            found = re.search(r"\b\d{6}\b", mail["body"]) if address in mail["to"] else None
            if found:
                return found.group()
        time.sleep(0.2)
    return None
