"""`sortitor job`: long work, how far it is, and stopping it."""

from __future__ import annotations

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import most_option, output_option, record, talk, write, write_one
from sortitor.cli.progress import watching
from sortitor.client import Sortitor
from sortitor.schemas.jobs import Job


@click.group()
def job() -> None:
    """Long work: how far it is, stopping it."""


@job.command("list")
@click.option("--running", is_flag=True, help="Only those that are not over.")
@most_option
@output_option
@with_client
def list_jobs(s: Sortitor, running: bool, most: int, output: str) -> None:
    """List jobs, newest first.

    \b
    Example:
      sortitor job list --running
    """
    write(
        s.jobs.list(running, most + 1),
        output,
        {
            "Id": lambda one: one.id,
            "What": lambda one: one.title,
            "State": lambda one: one.state,
            "Done": _share,
            "By": lambda one: one.actor,
            "Asked": lambda one: one.created_at,
        },
        most=most,
        hint="Next: sortitor job show ID",
    )


@job.command("show")
@click.argument("job_id", metavar="JOB", type=int)
@click.option("--follow", is_flag=True, help="Wait until it is over.")
@output_option
@with_client
def show(s: Sortitor, job_id: int, follow: bool, output: str) -> None:
    """Show how far a job is.

    \b
    Example:
      sortitor job show 12 --follow
    """
    found = s.jobs.show(job_id)
    if follow:
        with watching() as watch:
            found = s.jobs.follow(found, watch)
    if output != "table":
        write_one(found, output)
        return
    record(
        [
            ("Job", found.id),
            ("What", found.title),
            ("State", found.state),
            ("Doing", found.phase),
            ("Done", _share(found)),
            ("By", found.actor),
            ("Began", found.started_at),
            ("Ended", found.finished_at),
            ("Problem", (found.problem or {}).get("detail")),
        ]
    )


@job.command("cancel")
@click.argument("job_id", metavar="JOB", type=int)
@at_once_option
@with_client
def cancel(s: Sortitor, job_id: int) -> None:
    """Stop a job; nothing of it is kept.

    \b
    Example:
      sortitor job cancel 12
    """
    s.jobs.cancel(job_id)
    talk("It is stopped at the next step.")


def _share(job: Job) -> str | None:
    return f"{job.done:,} of {job.total:,}" if job.total else None
