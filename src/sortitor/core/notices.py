"""Mails about devices that will be retired."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from sortitor.core.previews import plural


def notice_mail(
    lines: Sequence[tuple[str, int, date]], address: str, again: bool
) -> tuple[str, str]:
    """Subject and body of the mail to a person or a site's contact: `(device, idle days, day of
    retirement)` each.
    """
    first = min(lines, key=lambda line: line[2])
    more = f" and {plural(len(lines) - 1, 'more device')}" if len(lines) > 1 else ""
    told = "\n".join(
        f"- {name}: quiet for {plural(idle, 'day')}, retired on {day:%F}"
        for name, idle, day in sorted(lines, key=lambda line: (line[2], line[0]))
    )
    still = "still " if again else ""
    return (
        f"{first[0]}{more} will be retired on {first[2]:%F}",
        f"These devices have {still}given no sign of life:\n\n{told}\n\n"
        "Is one of them in use? Switch it on and let it connect once before that day: then nothing"
        " happens to it.\nIs it lost or broken? Tell your help desk.\nIf nobody does anything, it"
        " is retired: it has to be let in again before it can be used.\n\n"
        f"{address}/sweeps\n",
    )
