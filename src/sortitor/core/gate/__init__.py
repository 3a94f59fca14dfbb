"""The gate: policies in order decide on arriving devices."""

from sortitor.core.gate.decide import (
    REASON_CODES,
    Arrival,
    Decision,
    Pass,
    Reason,
    Step,
    decide,
    remedy_for,
    unknown_pass,
)
from sortitor.core.gate.policies import Gate, PlatformRule, Policy, starting_gate

__all__ = [
    "REASON_CODES",
    "Arrival",
    "Decision",
    "Gate",
    "Pass",
    "PlatformRule",
    "Policy",
    "Reason",
    "Step",
    "decide",
    "remedy_for",
    "starting_gate",
    "unknown_pass",
]
