"""How much of what holds for every draw is tried each time."""

from __future__ import annotations

from typing import Any

import pytest


def first_of(*values: Any) -> list[Any]:
    """The first is tried always, the others by `make explore` alone."""
    first, *others = values
    return [first, *(pytest.param(value, marks=pytest.mark.slow) for value in others)]
