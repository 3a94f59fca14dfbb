"""How far long work is, on a terminal: phase, rows done, time left."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from sortitor.cli.output import console
from sortitor.client.jobs import Watch
from sortitor.core.vocabulary import JobState
from sortitor.schemas.jobs import Job


@contextmanager
def watching() -> Iterator[Watch]:
    """What to call with a job whenever it was looked at."""
    columns = (
        TextColumn("{task.description}"),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=console(stderr=True), transient=True) as progress:
        task = progress.add_task("waiting", total=None)
        last = ""

        def watch(job: Job) -> None:
            nonlocal last
            phase = (
                "waiting for a worker"
                if job.state is JobState.WAITING
                else job.phase or "beginning"
            )
            if phase != last:
                last = phase
                progress.reset(task, description=phase, total=job.total or None)
            progress.update(task, completed=job.done, total=job.total or None)

        yield watch
