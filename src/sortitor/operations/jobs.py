"""Long work as jobs: asked for in one transaction, carried out whole in another, with progress for
those who watch.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tenacity import retry, retry_if_exception_type, stop_after_attempt, wait_fixed

from sortitor.core.errors import Cancelled, Conflict, SortitorError, Unavailable
from sortitor.core.vocabulary import JobState, LotStatus
from sortitor.operations import lots
from sortitor.operations.context import Actor, Context, or_not_found
from sortitor.store import jobs as store
from sortitor.store import lots as store_lots
from sortitor.store import queue
from sortitor.store.engine import Connection
from sortitor.store.jobs import JobRow as JobRow
from sortitor.store.lots import HeadRow

TASK = "sortitor:work"
_TOLD_EVERY_SECONDS = 0.25
_TRIES_TO_END = 60
#: How often a job is begun whose worker dies with it.
_ATTEMPTS = 2


def ask(ctx: Context, kind: str, lot_id: int, arguments: dict[str, Any]) -> JobRow:
    """Ask for a lot's apply or revert as a job."""
    with ctx.changing() as connection:
        lot = or_not_found(store_lots.one(connection, lot_id), "lot", lot_id)
        return _ask(ctx, connection, kind, lot, arguments)


def ask_check(ctx: Context, given: lots.Given) -> tuple[HeadRow, JobRow | None]:
    """Keep a file and ask for its check: the lot and the job, or the earlier lot and None."""
    with ctx.changing() as connection:
        lot, fresh = lots.begin(ctx, connection, given)
        return lot, _ask(ctx, connection, "check", lot, {}) if fresh else None


_TITLES = {"check": "Check lot", "apply": "Apply lot", "revert": "Revert lot"}


def _ask(
    ctx: Context, connection: Connection, kind: str, lot: HeadRow, arguments: dict[str, Any]
) -> JobRow:
    job_id = store.add(
        connection,
        {
            "kind": kind,
            "title": f"{_TITLES[kind]} {lot.id} “{lot.name}”",
            "subject_id": lot.id,
            "arguments": arguments,
            "state": JobState.WAITING,
            "actor": ctx.actor.name,
            "role": ctx.actor.role,
            "account_id": ctx.actor.account_id,
            "created_at": ctx.clock.wall(),
        },
    )
    queue.enqueue(connection, TASK, job_id=job_id)
    return or_not_found(store.one(connection, job_id), "job", job_id)


def one(ctx: Context, job_id: int) -> JobRow:
    """One job."""
    with ctx.reading() as connection:
        return or_not_found(store.one(connection, job_id), "job", job_id)


def page(ctx: Context, before: int | None, limit: int, open_only: bool) -> list[JobRow]:
    """Jobs, newest first."""
    with ctx.reading() as connection:
        return store.page(connection, before, limit, open_only)


def cancel(ctx: Context, job_id: int) -> JobRow:
    """Ask a job to stop; what it did is rolled back as soon as it notices."""
    with ctx.changing() as connection:
        job = or_not_found(store.one(connection, job_id, lock=True), "job", job_id)
        if job.state not in (JobState.WAITING, JobState.RUNNING):
            raise Conflict(
                "job_over",
                f"The job is {job.state}.",
                "Revert its change if that is what you want.",
            )
        store.ask_to_stop(connection, job_id, ctx.clock.wall())
        if job.state == JobState.WAITING and job.kind == "check":
            store_lots.remove(connection, job.subject_id)
        return or_not_found(store.one(connection, job_id), "job", job_id)


def run(ctx: Context, job_id: int) -> None:
    """Carry a job out.

    Taken up again after a killed worker it does what is left to do, and nothing twice.
    """
    with ctx.bookkeeping() as connection:
        job = store.one(connection, job_id, lock=True)
        if job is None or job.state not in (JobState.WAITING, JobState.RUNNING):
            return
        lot = store_lots.one(connection, job.subject_id)
        again = job.state == JobState.RUNNING
        taken = {
            "state": JobState.RUNNING,
            "started_at": ctx.clock.wall(),
            "attempts": job.attempts + 1,
        }
        store.change(connection, job_id, taken)
    if again and lot is not None and lot.status == _REACHED[job.kind]:
        _finish(ctx, job_id, JobState.DONE)
        return
    if job.attempts >= _ATTEMPTS:
        _give_up(
            ctx,
            job,
            JobState.FAILED,
            {
                "code": "worker_died",
                "detail": f"The worker ended {job.attempts} times while it did this; nothing of it"
                " was kept.",
                "remedy": "Whoever runs this service finds the cause in its log. A file that is"
                " very large can be split.",
            },
        )
        return
    mine = replace(
        ctx,
        actor=Actor(job.actor, job.role, job.account_id),
        progress=_teller(ctx, job_id),
        _spent=[],
    )
    try:
        _ACTS[job.kind](mine, job.subject_id, job.arguments)
    except Cancelled:
        _give_up(ctx, job, JobState.CANCELLED, None)
    except SortitorError as error:
        if ctx.leash is not None and ctx.leash.over:
            _hand_back(ctx, job_id)
            return
        _give_up(
            ctx,
            job,
            JobState.FAILED,
            {"code": error.code, "detail": error.detail, "remedy": error.remedy},
        )
    except Exception:
        _give_up(
            ctx,
            job,
            JobState.FAILED,
            {
                "code": "unexpected",
                "detail": "Something went wrong that should not; nothing of it was kept.",
                "remedy": "Start it again.",
            },
        )
        raise
    else:
        _finish(ctx, job_id, JobState.DONE)


_REACHED = {"check": LotStatus.DRAFT, "apply": LotStatus.APPLIED, "revert": LotStatus.REVERTED}
_ACTS: dict[str, Callable[[Context, int, dict[str, Any]], object]] = {
    "check": lambda ctx, lot_id, _: lots.finish(ctx, lot_id),
    "apply": lambda ctx, lot_id, given: lots.apply(ctx, lot_id, given["digest"], given["reason"]),
    "revert": lambda ctx, lot_id, given: lots.revert(ctx, lot_id, given["digest"], given["reason"]),
}


@retry(
    retry=retry_if_exception_type(Unavailable),
    stop=stop_after_attempt(_TRIES_TO_END),
    wait=wait_fixed(1),
    reraise=True,
)
def _finish(
    ctx: Context,
    job_id: int,
    state: JobState,
    problem: dict[str, Any] | None = None,
    forget_lot: int | None = None,
) -> None:
    """Write the end down.

    What a job fails of may be the database, so this waits for it to come back.
    """
    ended = {"state": state, "finished_at": ctx.clock.wall(), "problem": problem}
    with ctx.bookkeeping() as connection:
        if forget_lot is not None:
            store_lots.remove(connection, forget_lot)
        store.change(connection, job_id, ended)


def _hand_back(ctx: Context, job_id: int) -> None:
    """A worker that is asked to end leaves the job to the next one; that counts as no attempt."""
    with ctx.bookkeeping() as connection:
        job = store.one(connection, job_id, lock=True)
        if job is not None and job.state == JobState.RUNNING:
            values = {"state": JobState.WAITING, "attempts": max(0, job.attempts - 1)}
            store.change(connection, job_id, values)
            queue.enqueue(connection, TASK, job_id=job_id)


def _give_up(ctx: Context, job: JobRow, state: JobState, problem: dict[str, Any] | None) -> None:
    # A file that could not be looked through never was a lot.
    _finish(ctx, job.id, state, problem, job.subject_id if job.kind == "check" else None)


def _teller(ctx: Context, job_id: int) -> Callable[[str, int, int], None]:
    """Progress on a connection of its own, so that others see it before the change is committed."""
    told_at = 0.0
    last = ""

    def tell(phase: str, done: int, total: int) -> None:
        nonlocal told_at, last
        now = time.monotonic()
        if phase == last and now - told_at < _TOLD_EVERY_SECONDS:
            return
        told_at, last = now, phase
        ctx.check_time()
        with ctx.bookkeeping() as connection:
            stop = store.step(connection, job_id, phase, done, total)
        if stop:
            raise Cancelled

    return tell
