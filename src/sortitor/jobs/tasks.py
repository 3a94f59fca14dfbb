"""Queue tasks and their schedules: each calls one operation."""

from __future__ import annotations

from procrastinate import App, JobContext, PsycopgConnector, RetryStrategy

from sortitor.operations import ends, health, jobs, levels, licences, orders, retention, today
from sortitor.operations.arrivals import setting_up
from sortitor.operations.cohorts import documents as cohort_documents
from sortitor.operations.cohorts import reading as cohorts
from sortitor.operations.context import Context
from sortitor.operations.kits import delivery, files
from sortitor.operations.kits.reading import bring_up
from sortitor.operations.sweeps import runs as sweeps

_STALLED_SECONDS = 30
_ATTEMPTS = 5


def make_app(url: str) -> App:
    """The queue in the service's own database; made anew whenever a worker starts again."""
    app = App(connector=PsycopgConnector(conninfo=url, min_size=1, max_size=4))
    app.task(name=jobs.TASK, pass_context=True)(work)
    retry = RetryStrategy(max_attempts=_ATTEMPTS, exponential_wait=5)
    # Every hour rather than once a day: a rule runs once a day whenever a worker is there, and
    # never twice.
    app.periodic(cron="5 * * * *")(
        app.task(name="sortitor:sweep", queueing_lock="sweep", retry=retry, pass_context=True)(
            sweep
        )
    )
    app.periodic(cron="35 * * * *")(
        app.task(
            name="sortitor:count_cohorts",
            queueing_lock="count_cohorts",
            retry=retry,
            pass_context=True,
        )(count_cohorts)
    )
    app.periodic(cron="20 2 * * *")(
        app.task(name="sortitor:retain", queueing_lock="retain", retry=retry, pass_context=True)(
            retain
        )
    )
    # Every hour: what was told is not told again.
    app.periodic(cron="25 * * * *")(
        app.task(name="sortitor:remind", queueing_lock="remind", retry=retry, pass_context=True)(
            remind
        )
    )
    app.periodic(cron="* * * * *")(
        app.task(name="sortitor:sources", queueing_lock="sources", pass_context=True)(run_sources)
    )
    app.periodic(cron="*/5 * * * *")(
        app.task(name="sortitor:level", queueing_lock="level", pass_context=True)(level)
    )
    app.periodic(cron="* * * * *")(
        app.task(name="sortitor:count", queueing_lock="count", pass_context=True)(count)
    )
    app.periodic(cron="* * * * *")(
        app.task(name="sortitor:retry_stalled", queueing_lock="retry_stalled", pass_context=True)(
            retry_stalled
        )
    )
    return app


def _context(job: JobContext) -> Context:
    found = job.additional_context["context"]
    assert isinstance(found, Context)
    return found


def work(job: JobContext, job_id: int) -> None:
    """Carry out one piece of long work; a failure is told on the job itself, and not tried
    again.
    """
    jobs.run(_context(job), job_id)


def sweep(job: JobContext, timestamp: int) -> None:
    """Carry out the daily sweep rules."""
    sweeps.run_scheduled(_context(job))


def count_cohorts(job: JobContext, timestamp: int) -> None:
    """Keep today's numbers of the cohorts, the seats of pools, and what devices get."""
    cohorts.write_counts(_context(job))
    licences.keep_up(_context(job))
    delivery.keep_up(_context(job))
    files.keep_up(_context(job))


def retain(job: JobContext, timestamp: int) -> None:
    """Let go of what is older than it is kept."""
    retention.carry_out(_context(job))


def remind(job: JobContext, timestamp: int) -> None:
    """Remind of what ends soon."""
    ends.remind(_context(job))


def run_sources(job: JobContext, timestamp: int) -> None:
    """Ask for a run of every source whose time has come."""
    jobs.ask_due_sources(_context(job))


def level(job: JobContext, timestamp: int) -> None:
    """Compare the fleet with the rosters where something has happened since the last time."""
    levels.refresh(_context(job), always=False)


def count(job: JobContext, timestamp: int) -> None:
    """Keep ready the numbers for those who run the service, and what devices get."""
    health.count(_context(job))
    today.keep_up(_context(job))
    cohort_documents.keep_up(_context(job))
    orders.keep_up(_context(job))
    bring_up(_context(job))
    setting_up.watch_limits(_context(job))


async def retry_stalled(job: JobContext, timestamp: int) -> None:
    """Put the jobs of a killed worker back; one that failed too often stays failed."""
    assert job.app is not None
    manager = job.app.job_manager
    for stalled in await manager.get_stalled_jobs(seconds_since_heartbeat=_STALLED_SECONDS):
        if stalled.attempts < _ATTEMPTS:
            await manager.retry_job(stalled)
