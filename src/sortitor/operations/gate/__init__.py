"""The gate: reading and changing it, replaying a change, trying a device, and who has the word."""

from sortitor.operations.gate.documents import GATE, GATE_ID, check, in_force, read
from sortitor.operations.gate.effective import Effective, effective_for
from sortitor.operations.gate.replay import (
    ARRIVALS,
    FLEET,
    Replayed,
    TurnedRow,
    replay,
    turned_frame,
    turned_page,
)
from sortitor.operations.gate.trial import Imagined, attempt, declared_facts, facts_of

__all__ = [
    "ARRIVALS",
    "FLEET",
    "GATE",
    "GATE_ID",
    "Effective",
    "Imagined",
    "Replayed",
    "TurnedRow",
    "attempt",
    "check",
    "declared_facts",
    "effective_for",
    "facts_of",
    "in_force",
    "read",
    "replay",
    "turned_frame",
    "turned_page",
]
