"""Every error that a user can meet, with its cause and its remedy.

SortitorError
├── BadInput        what was given cannot be understood or is out of bounds
│   ├── TooLarge    more than the service takes
│   ├── NotAcceptable no answer of a kind that the caller takes
│   └── Unsupported a kind of content the service does not read
├── NotSignedIn     no account, or a wrong secret
├── SlowDown        too many requests or failed tries; carries the seconds to wait
├── NotAllowed      the account's role does not cover this
├── NotFound        nothing is there under this name
├── Conflict        the present state does not allow it
│   ├── Stale       what was edited is not what is there any more
│   ├── FactsMoved  the facts changed since the preview; carries the new preview
│   └── Cancelled   somebody stopped the work
├── SourceFault     another system does not do what is asked of it
├── Unread          an edit that does not say what it was made from
└── Unavailable     the database cannot be reached at the moment
    ├── Busy        everything that could do it is at work; carries the seconds to wait
    └── OutOfTime   it took longer than a request may
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class FieldProblem:
    """One thing wrong with one value: `pointer` is a JSON pointer (RFC 6901) or a place in a
    file; `suggestion` is what would be right, where that can be told.
    """

    pointer: str
    code: str
    detail: str
    suggestion: str = ""


class SortitorError(Exception):
    """The base: `code` is for programs, `detail` says what and where, `remedy` what to do."""

    def __init__(
        self, code: str, detail: str, remedy: str = "", problems: tuple[FieldProblem, ...] = ()
    ) -> None:
        super().__init__(detail)
        self.code, self.detail, self.remedy, self.problems = code, detail, remedy, problems


class BadInput(SortitorError):
    """What was given cannot be understood or is out of bounds."""


class TooLarge(BadInput):
    """More than the service takes."""


class Unsupported(BadInput):
    """A kind of content that the service does not read."""


class NotAcceptable(BadInput):
    """No answer of a kind that the caller takes."""


class NotSignedIn(SortitorError):
    """No account, or a wrong secret."""


class SlowDown(SortitorError):
    """Too many requests, or too many failed tries."""

    def __init__(self, wait_seconds: int, detail: str = "", remedy: str = "") -> None:
        wait = max(1, wait_seconds)
        super().__init__(
            "slow_down",
            f"{detail or 'Too many failed tries.'} Wait {wait} seconds, then try again.",
            remedy or "If the password is lost, an administrator can set a new one.",
        )
        self.wait_seconds = wait


class NotAllowed(SortitorError):
    """The account's role does not cover this."""


class NotFound(SortitorError):
    """Nothing is there under this name."""

    def __init__(self, what: str, name: object) -> None:
        super().__init__(
            "not_found", f"There is no {what} {name}.", "Check the number or search for it."
        )


class Conflict(SortitorError):
    """The present state does not allow it."""


class Stale(Conflict):
    """What was edited is not what is there any more."""

    def __init__(self, what: str) -> None:
        super().__init__(
            "stale",
            f"Somebody changed {what} meanwhile; nothing was saved.",
            "Read it again and repeat the change.",
        )


class SourceFault(SortitorError):
    """Another system does not do what is asked of it: `code` says which way, `detail` in its
    words.
    """


class Unread(SortitorError):
    """An edit that does not say what it was made from."""

    def __init__(self, what: str) -> None:
        super().__init__(
            "precondition_required",
            f"Say which {what} is edited: by If-Match with the ETag that was read, or by the digest"
            " of the preview.",
            "Read it first. `If-Match: *` edits whatever is there.",
        )


class FactsMoved(Conflict):
    """The facts changed since the preview, so that the outcome would differ from what was shown."""

    def __init__(self, preview: Any) -> None:
        super().__init__(
            "facts_moved",
            "The facts have changed since this preview; nothing was applied.",
            "Read the new preview and apply that one.",
        )
        self.preview = preview


class Cancelled(Conflict):
    """Somebody stopped the work; nothing of it was kept."""

    def __init__(self) -> None:
        super().__init__(
            "cancelled",
            "The work was stopped; nothing of it was kept.",
            "Start it again when you want it.",
        )


class Unavailable(SortitorError):
    """The database cannot be reached at the moment."""


class Busy(Unavailable):
    """Everything that could do it is at work."""

    def __init__(self, what: str, wait_seconds: int = 5) -> None:
        super().__init__(
            "busy", f"{what}; nothing was changed.", f"Try again in {wait_seconds} seconds."
        )
        self.wait_seconds = wait_seconds


class OutOfTime(Unavailable):
    """It took longer than a request may."""

    def __init__(self) -> None:
        super().__init__(
            "out_of_time",
            "This took longer than one request may; it was stopped and nothing was changed.",
            "Ask for less at once. What an import changes can run as a job.",
        )
