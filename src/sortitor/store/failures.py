"""The database's refusals as errors that a user can read.

A test fails on a constraint that is missing here.
"""

from __future__ import annotations

import logging

from psycopg import Error as PsycopgError
from psycopg import errors as pg
from sqlalchemy.exc import DBAPIError

from sortitor.core.errors import BadInput, Busy, Conflict, OutOfTime, SortitorError, Unavailable

_log = logging.getLogger(__name__)
_MOVED = "Somebody changed the same thing at the same moment; nothing was applied. Try again."

_TOO_MUCH = (pg.ProgramLimitExceeded, pg.StatementTooComplex, pg.TooManyColumns)

#: Constraint → (code, what happened, what to do).
CONSTRAINTS: dict[str, tuple[str, str, str]] = {
    "pk_identifiers": (
        "identifier_taken",
        "Another device has this serial number or IMEI; nothing was applied.",
        "Preview again: the fleet has changed.",
    ),
    "uq_devices_name": (
        "name_taken",
        "Another device has this name; nothing was applied.",
        "Choose another name or preview again.",
    ),
    "uq_accounts_name": (
        "account_taken",
        "There is already an account of this name.",
        "Choose another name.",
    ),
    "uq_accounts_name_key": (
        "account_taken",
        "There is already an account whose name looks like this one.",
        "Choose another name.",
    ),
    "uq_people_user_name": (
        "person_taken",
        "There is already a person of this user name.",
        "Import again.",
    ),
    "uq_groups_name": ("group_taken", "There is already a group of this name.", "Import again."),
    "uq_pools_name": (
        "pool_taken",
        "There is already a licence pool of this name.",
        "Choose another name.",
    ),
    "uq_grants_voucher": (
        "voucher_used",
        "This voucher has been used already.",
        "Read where, in the history of its pool.",
    ),
    "uq_grants_used_as": (
        "voucher_used",
        "This voucher has been used already.",
        "Read where, in the history of its pool.",
    ),
    "uq_arrivals_secret": (
        "changed_meanwhile",
        "Another arrival was written at this very moment.",
        "Try again.",
    ),
    "uq_terms_name": (
        "name_taken",
        "There are already terms of this name.",
        "Choose another name, or change those.",
    ),
    "uq_sources_name": (
        "source_taken",
        "There is already a source of this name.",
        "Choose another name.",
    ),
    "uq_source_secrets": (
        "changed_meanwhile",
        "Somebody gave this source another credential at this very moment.",
        "Look at it, then try again.",
    ),
    "uq_source_runs_at_work": (
        "runs_already",
        "This source is being read at the moment.",
        "Wait for the end of its run.",
    ),
    "uq_discrepancies_key": (
        "changed_meanwhile",
        "The systems were compared at this very moment.",
        "Try again.",
    ),
    "uq_sweep_rules_name": (
        "rule_taken",
        "There is already a sweep rule of this name.",
        "Choose another name.",
    ),
    "uq_cohorts_name": (
        "cohort_taken",
        "There is already a cohort of this name.",
        "Choose another name.",
    ),
    "uq_items_name": (
        "name_taken",
        "There is already an item of this name.",
        "Choose another name, or change that item.",
    ),
    "uq_own_settings_name": (
        "name_taken",
        "There is already a setting of your own of this name.",
        "Choose another name, or change that setting.",
    ),
    "uq_kits_name": (
        "name_taken",
        "There is already a kit of this name.",
        "Choose another name, or change that kit.",
    ),
    "uq_sheets_name": (
        "name_taken",
        "There is already a setup sheet of this name.",
        "Choose another name, or change that sheet.",
    ),
    "uq_checklists_name": (
        "name_taken",
        "There is already a checklist of this name.",
        "Choose another name, or change that checklist.",
    ),
    "uq_kit_conditions_filter": (
        "changed_meanwhile",
        "Somebody changed what devices get at this very moment; nothing was applied.",
        "Try again.",
    ),
    "uq_views_name": (
        "view_taken",
        "You have a view of this name already.",
        "Choose another name.",
    ),
    "uq_orders_name": (
        "order_taken",
        "There is already an order of this name.",
        "Choose another name, or change that order.",
    ),
    "uq_journal_reverts": (
        "already_reverted",
        "This change has been reverted already.",
        "Read the journal.",
    ),
    "pk_idempotency": (
        "still_running",
        "The same request is being carried out.",
        "Wait for its answer.",
    ),
}


def translate(error: DBAPIError | PsycopgError) -> SortitorError:
    """Our error for a database error; an unknown one that is nobody's input is raised as it is."""
    cause = error.orig if isinstance(error, DBAPIError) else error
    if isinstance(cause, pg.IntegrityError) and (
        known := CONSTRAINTS.get(cause.diag.constraint_name or "")
    ):
        return Conflict(*known)
    if isinstance(cause, pg.DeadlockDetected | pg.SerializationFailure | pg.LockNotAvailable):
        return Conflict("changed_meanwhile", _MOVED, "Try again.")
    if isinstance(cause, pg.QueryCanceled):
        return OutOfTime()
    if isinstance(cause, _TOO_MUCH):
        return BadInput(
            "too_long",
            f"A value is longer than it can be kept and found by: {cause.diag.message_primary}.",
            "Shorten it.",
        )
    if isinstance(cause, pg.DiskFull):
        # Shared memory is a file as well; the function of the server tells, in whatever language.
        if (cause.diag.source_function or "").startswith("dsm_"):
            return Unavailable(
                "no_shared_memory",
                "The database has too little shared memory for this; nothing was changed.",
                "Whoever runs this service gives it more: its container 1 GB of /dev/shm.",
            )
        return Unavailable(
            "disk_full",
            "The database's disk is full; nothing was changed.",
            "Whoever runs this service makes room.",
        )
    if isinstance(cause, pg.TooManyConnections):
        return Busy("Every connection to the database is at work")
    if isinstance(cause, pg.DataError):
        # A value that nobody refused before, or a fault of a statement of ours.
        _log.warning("a value cannot be stored", exc_info=error)
        return BadInput(
            "unstorable",
            f"A value cannot be stored: {cause.diag.message_primary or cause}.",
            "Correct the value.",
        )
    lost = isinstance(error, DBAPIError) and error.connection_invalidated
    if lost or isinstance(cause, pg.OperationalError | pg.InterfaceError):
        return Unavailable(
            "database_unavailable",
            "The database cannot be reached; nothing was changed.",
            "Try again in a moment.",
        )
    raise error
