"""Whose a device is, and why that is believed."""

from __future__ import annotations

from sortitor.core.vocabulary import Basis, Ownership


def is_declared(ownership: Ownership, basis: Basis) -> bool:
    """Whether somebody said whose the device is, rather than the gate inferring it."""
    return basis is not Basis.INFERRED and ownership is not Ownership.UNKNOWN


def after_arrival(
    known: tuple[Ownership, Basis] | None, by_pass: Ownership | None
) -> tuple[Ownership, Basis]:
    """Whose a device is once it has arrived: the stronger basis wins, undeclared means personal.

    known: what was believed before, None for a device that nobody knows. by_pass: what the pass
    declares.
    """
    if known is not None and is_declared(*known) and known[1].strength > Basis.PASS.strength:
        return known
    if by_pass is not None:
        return by_pass, Basis.PASS
    if known is not None and is_declared(*known):
        return known
    return Ownership.PERSONAL, Basis.INFERRED
