"""Every table. Names of constraints are stable: `store/failures.py` turns them into errors that a
user can read.
"""

from sortitor.store.tables.access import (
    accounts,
    idempotency,
    installation,
    sessions,
    strangers,
    tokens,
    views,
)
from sortitor.store.tables.arrivals import (
    acceptances,
    arrivals,
    mails,
    passes,
    pictures,
    sign_in_codes,
    way_messages,
)
from sortitor.store.tables.base import Time, metadata
from sortitor.store.tables.cohorts import cohort_counts, cohort_members, cohorts
from sortitor.store.tables.devices import (
    ORDERS,
    SEEN,
    credentials,
    devices,
    folded,
    holds,
    identifiers,
)
from sortitor.store.tables.documents import counters, orders, pools, rulebooks, sweep_rules, terms
from sortitor.store.tables.jobs import jobs
from sortitor.store.tables.journal import (
    journal,
    journal_creations,
    journal_effects,
    journal_seals,
)
from sortitor.store.tables.lots import (
    lot_blocks,
    lot_choices,
    lot_edits,
    lot_notes,
    lot_rows,
    lots,
    makers,
    mappings,
)
from sortitor.store.tables.people import group_groups, group_people, groups, memberships, people
from sortitor.store.tables.sweeps import sweeps

__all__ = [
    "ORDERS",
    "SEEN",
    "Time",
    "acceptances",
    "accounts",
    "arrivals",
    "cohort_counts",
    "cohort_members",
    "cohorts",
    "counters",
    "credentials",
    "devices",
    "folded",
    "group_groups",
    "group_people",
    "groups",
    "holds",
    "idempotency",
    "identifiers",
    "installation",
    "jobs",
    "journal",
    "journal_creations",
    "journal_effects",
    "journal_seals",
    "lot_blocks",
    "lot_choices",
    "lot_edits",
    "lot_notes",
    "lot_rows",
    "lots",
    "mails",
    "makers",
    "mappings",
    "memberships",
    "metadata",
    "orders",
    "passes",
    "people",
    "pictures",
    "pools",
    "rulebooks",
    "sessions",
    "sign_in_codes",
    "strangers",
    "sweep_rules",
    "sweeps",
    "terms",
    "tokens",
    "views",
    "way_messages",
]
