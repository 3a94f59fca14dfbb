"""What the client raises.

SortitorProblem      the service answered with a problem
├── SignInNeeded     401: sign in, or the token has ended
├── Refused          403, 404, 409, 412, 413, 415, 422, 429
│   └── FactsMoved   409 with a new preview: the facts changed since the one that was quoted
└── Broken           5xx
Unreachable          there was no answer
"""

from __future__ import annotations

from sortitor.schemas.base import Preview, Problem
from sortitor.schemas.jobs import Job


class SortitorProblem(Exception):
    """The service answered with a problem; `problem` carries code, detail, remedy and the
    fields.
    """

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem


class SignInNeeded(SortitorProblem):
    """Sign in, or the token has ended."""


class Refused(SortitorProblem):
    """The service refused; nothing was changed."""


class FactsMoved(Refused):
    """The facts changed since the preview that was quoted."""

    @property
    def preview(self) -> Preview:
        """What applying would do now."""
        assert self.problem.preview is not None
        return self.problem.preview


class Broken(SortitorProblem):
    """The service failed."""


class Unreachable(Exception):
    """There was no answer."""


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
    return Broken(problem) if found["code"] == "unexpected" else Refused(problem)
