"""What the client raises.

SortitorError            the base of all
├── Unreachable          there was no answer
│   └── TimedOut         none in time; whether something was done is not known
├── Unreadable           there was one, but not one that this client knows
└── SortitorProblem      the service answered with a problem
    ├── SignInNeeded     401: sign in, or the token has ended
    ├── Refused          4xx: nothing was changed
    │   ├── NotAllowed   403: the role does not allow it
    │   ├── NotFound     404: there is no such thing
    │   ├── Conflict     409: it does not agree with what is there
    │   │   └── FactsMoved   with a new preview: the facts moved since the one that was quoted
    │   ├── Stale        412, 428: it was changed since it was read, or not read at all
    │   ├── Invalid      400, 406, 413, 415, 422: what was given is wrong
    │   └── SlowDown     429: too much at once; `seconds` says when to try again
    └── Broken           5xx: the service failed
"""

from __future__ import annotations

from pydantic import ValidationError

from sortitor.schemas.base import Preview, Problem
from sortitor.schemas.jobs import Job


class SortitorError(Exception):
    """The base of all that the client raises."""


class Unreachable(SortitorError):
    """There was no answer."""


class TimedOut(Unreachable):
    """There was no answer in time; whether something was done is not known."""


class Unreadable(SortitorError):
    """The answer is none that this client knows: something else answers there, or a service of
    another version.
    """

    def __init__(self, asked: str, error: ValidationError) -> None:
        first = error.errors(include_url=False, include_input=False)[0]
        where = ".".join(map(str, first["loc"]))
        super().__init__(
            f"{asked} gave an answer that this client cannot read"
            f" ({where + ': ' if where else ''}{first['msg']}). Either this is not the service's"
            " address, or the service and this client are of different versions."
        )


class SortitorProblem(SortitorError):
    """The service answered with a problem; `problem` carries code, detail, remedy and the fields;
    `seconds` after which to ask again, where it says so.
    """

    def __init__(self, problem: Problem, seconds: int | None = None) -> None:
        super().__init__(problem.detail)
        self.problem, self.seconds = problem, seconds


class SignInNeeded(SortitorProblem):
    """Sign in, or the token has ended."""


class Refused(SortitorProblem):
    """The service refused; nothing was changed."""


class NotAllowed(Refused):
    """The role does not allow it."""


class NotFound(Refused):
    """There is no such thing."""


class Conflict(Refused):
    """It does not agree with what is there."""


class FactsMoved(Conflict):
    """The facts changed since the preview that was quoted."""

    @property
    def preview(self) -> Preview:
        """What applying would do now."""
        assert self.problem.preview is not None
        return self.problem.preview


class Stale(Refused):
    """It was changed since it was read, or was not read at all."""


class Invalid(Refused):
    """What was given is wrong; `problem.errors` says which values."""


class SlowDown(Refused):
    """Too much at once."""


class Broken(SortitorProblem):
    """The service failed."""


_BY_STATUS: dict[int, type[SortitorProblem]] = {
    400: Invalid,
    401: SignInNeeded,
    403: NotAllowed,
    404: NotFound,
    406: Invalid,
    409: Conflict,
    412: Stale,
    413: Invalid,
    415: Invalid,
    422: Invalid,
    428: Stale,
    429: SlowDown,
}


def raised(problem: Problem, seconds: int | None = None) -> SortitorProblem:
    """The error that a problem is raised as."""
    if problem.preview is not None:
        return FactsMoved(problem, seconds)
    usual = Broken if problem.status >= 500 else Refused
    return _BY_STATUS.get(problem.status, usual)(problem, seconds)


def job_problem(job: Job) -> SortitorProblem:
    """What a job failed of, as if the service had answered with it."""
    found = job.problem or {
        "code": "cancelled",
        "detail": f"{job.title} was stopped; nothing of it was kept.",
        "remedy": "Start it again when you want it.",
    }
    problem = Problem(
        type=f"urn:sortitor:problem:{found['code']}",
        title="Conflict",
        status=409,
        detail=found["detail"],
        code=found["code"],
        remedy=found["remedy"],
    )
    return Broken(problem) if found["code"] == "unexpected" else Conflict(problem)
