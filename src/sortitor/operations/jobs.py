"""Long work as jobs: asked for in one transaction, carried out whole in another, with progress for
those who watch.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from tenacity import retry, retry_if_exception_type, stop_after_attempt, wait_fixed

from sortitor.core.errors import Cancelled, Conflict, SortitorError, Unavailable
from sortitor.core.previews import Preview
from sortitor.core.sources import Source
from sortitor.core.vocabulary import JobState, LotStatus, Mend
from sortitor.operations import levels, lots
from sortitor.operations.context import Actor, Context, or_not_found
from sortitor.operations.documents import Key
from sortitor.operations.sources import runs as source_runs
from sortitor.operations.sources.documents import SOURCES
from sortitor.store import jobs as store
from sortitor.store import lots as store_lots
from sortitor.store import queue
from sortitor.store.documents import Kept
from sortitor.store.engine import Connection
from sortitor.store.jobs import JobRow as JobRow
from sortitor.store.lots import HeadRow

TASK = "sortitor:work"
_TOLD_EVERY_SECONDS = 0.25
_TRIES_TO_END = 60
#: How often a job is begun whose worker dies with it.
_ATTEMPTS = 2


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of long work, about the subject whose number a job carries."""

    title: str
    carry_out: Callable[[Context, int, dict[str, Any]], object]
    #: Whether a former worker has brought it to its end.
    is_reached: Callable[[Connection, int], bool]
    #: What is noted of the subject once a job came to nothing; the problem is None where it was
    #: cancelled.
    give_up: Callable[[Context, Connection, int, dict[str, Any] | None], object]


def _lot_kind(title: str, carry_out: Callable[..., object], reached: LotStatus) -> Kind:
    def is_reached(connection: Connection, lot_id: int) -> bool:
        lot = store_lots.one(connection, lot_id)
        return lot is not None and lot.status == reached

    def give_up(
        ctx: Context, connection: Connection, lot_id: int, problem: dict[str, Any] | None
    ) -> None:
        # A file that could not be looked through never was a lot.
        if reached is LotStatus.DRAFT:
            store_lots.remove(connection, lot_id)

    return Kind(title, carry_out, is_reached, give_up)


def _read_source(ctx: Context, run_id: int, _: dict[str, Any]) -> None:
    source_runs.carry_out(ctx, run_id)
    levels.refresh(ctx)


KINDS: dict[str, Kind] = {
    "check": _lot_kind(
        "Check lot", lambda ctx, lot_id, _: lots.finish(ctx, lot_id), LotStatus.DRAFT
    ),
    "apply": _lot_kind(
        "Apply lot",
        lambda ctx, lot_id, given: lots.apply(ctx, lot_id, given["digest"], given["reason"]),
        LotStatus.APPLIED,
    ),
    "revert": _lot_kind(
        "Revert lot",
        lambda ctx, lot_id, given: lots.revert(ctx, lot_id, given["digest"], given["reason"]),
        LotStatus.REVERTED,
    ),
    "source": Kind("Read", _read_source, source_runs.is_over, source_runs.fail),
    # About nothing in particular; where it is done twice, the second time changes nothing.
    "level": Kind(
        "Compare",
        lambda ctx, _, __: levels.refresh(ctx),
        lambda connection, _: False,
        lambda ctx, connection, _, __: None,
    ),
}


def ask(ctx: Context, kind: str, lot_id: int, arguments: dict[str, Any]) -> JobRow:
    """Ask for a lot's apply or revert as a job."""
    with ctx.changing() as connection:
        lot = or_not_found(store_lots.one(connection, lot_id), "lot", lot_id)
        return _ask(ctx, connection, kind, lot.id, f"{lot.id} “{lot.name}”", arguments)


def ask_check(ctx: Context, given: lots.Given) -> tuple[HeadRow, JobRow | None]:
    """Keep a file and ask for its check: the lot and the job, or the earlier lot and None."""
    with ctx.changing() as connection:
        lot, fresh = lots.begin(ctx, connection, given)
        if not fresh:
            return lot, None
        return lot, _ask(ctx, connection, "check", lot.id, f"{lot.id} “{lot.name}”", {})


def ask_source(ctx: Context, key: Key, wanted: source_runs.Wanted) -> JobRow:
    """Ask for a run of a source. Raises Conflict where one is under way."""
    with ctx.changing() as connection:
        kept = SOURCES.find(connection, key)
        source_runs.require_asking(kept.document)
        run_id = source_runs.begin(ctx, connection, kept, wanted)
        if run_id is None:
            name = kept.document.name
            raise Conflict(
                "runs_already", f"“{name}” is being read at the moment.", "Wait for its end."
            )
        return _ask_run(ctx, connection, kept, run_id)


def ask_compare(ctx: Context) -> JobRow:
    """Ask for a comparison of the fleet with every roster."""
    with ctx.changing() as connection:
        return _ask(ctx, connection, "level", 0, "the fleet with the rosters", {})


def mend(
    ctx: Context, chosen: levels.Chosen, what: Mend, digest: str, reason: str | None
) -> Preview:
    """Mend what differs and compare anew: at once, or as a job where that takes a while."""
    preview = levels.mend(ctx, chosen, what, digest, reason)
    if levels.is_large(ctx):
        ask_compare(ctx)
    else:
        levels.refresh(ctx)
    return preview


def _ask_run(ctx: Context, connection: Connection, kept: Kept[Source], run_id: int) -> JobRow:
    job = _ask(ctx, connection, "source", run_id, f"“{kept.document.name}”", {})
    source_runs.note_job(connection, run_id, job.id)
    return job


def ask_due_sources(ctx: Context) -> list[JobRow]:
    """Ask for a run of every source whose time has come; of several processes one does it."""
    asked = []
    for kept, wanted in source_runs.due(ctx):
        with ctx.changing() as connection:
            run_id = source_runs.begin(ctx, connection, kept, wanted)
            if run_id is not None:
                asked.append(_ask_run(ctx, connection, kept, run_id))
    return asked


def _ask(
    ctx: Context,
    connection: Connection,
    kind: str,
    subject_id: int,
    called: str,
    arguments: dict[str, Any],
) -> JobRow:
    job_id = store.add(
        connection,
        {
            "kind": kind,
            "title": f"{KINDS[kind].title} {called}",
            "subject_id": subject_id,
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
        if job.state == JobState.WAITING:
            KINDS[job.kind].give_up(ctx, connection, job.subject_id, None)
        return or_not_found(store.one(connection, job_id), "job", job_id)


def run(ctx: Context, job_id: int) -> None:
    """Carry a job out.

    Taken up again after a killed worker it does what is left to do, and nothing twice.
    """
    with ctx.bookkeeping() as connection:
        job = store.one(connection, job_id, lock=True)
        if job is None or job.state not in (JobState.WAITING, JobState.RUNNING):
            return
        again = job.state == JobState.RUNNING
        reached = KINDS[job.kind].is_reached(connection, job.subject_id)
        taken = {
            "state": JobState.RUNNING,
            "started_at": ctx.clock.wall(),
            "attempts": job.attempts + 1,
        }
        store.change(connection, job_id, taken)
    if again and reached:
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
        KINDS[job.kind].carry_out(mine, job.subject_id, job.arguments)
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
    given_up: JobRow | None = None,
) -> None:
    """Write the end down.

    What a job fails of may be the database, so this waits for it to come back.
    """
    ended = {"state": state, "finished_at": ctx.clock.wall(), "problem": problem}
    with ctx.bookkeeping() as connection:
        if given_up is not None:
            KINDS[given_up.kind].give_up(ctx, connection, given_up.subject_id, problem)
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
    _finish(ctx, job.id, state, problem, job)


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
