"""Long work."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from sortitor.client.errors import job_problem
from sortitor.client.noun import Noun
from sortitor.core.vocabulary import (
    JobState,
)
from sortitor.schemas import jobs as jb

Watch = Callable[[jb.Job], None]
_LOOK_EVERY_SECONDS = 0.3


def unwatched(job: jb.Job) -> None:
    """Nobody watches."""


class Jobs(Noun):
    """Long work."""

    def list(self, running: bool = False, most: int | None = None) -> Iterator[jb.Job]:
        """Jobs, newest first.

        >>> for one in s.jobs.list():
        ...     print(one)
        """
        return self._t.pages(jb.Job, "/jobs", {"running": running or None}, most)

    def show(self, job_id: int) -> jb.Job:
        """How far one job is.

        >>> s.jobs.show(7)
        """
        return self._t.call(jb.Job, "GET", f"/jobs/{job_id}")

    def cancel(self, job_id: int) -> jb.Job:
        """Stop a job; nothing of it is kept.

        >>> s.jobs.cancel(7)
        """
        return self._t.call(jb.Job, "POST", f"/jobs/{job_id}/cancel")

    def follow(self, job: jb.Job, watch: Watch) -> jb.Job:
        """Wait for a job's end, telling how far it is. Raises Refused with what it failed of.

        >>> s.jobs.follow(job, print)
        """
        while True:
            watch(job)
            if job.state is JobState.DONE:
                return job
            if job.state in (JobState.FAILED, JobState.CANCELLED):
                raise job_problem(job)
            time.sleep(_LOOK_EVERY_SECONDS)
            job = self.show(job.id)
