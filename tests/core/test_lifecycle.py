"""Stages: which follow which."""

from itertools import product

import pytest

from sortitor.core.access import Permission, covers, lesser, may
from sortitor.core.errors import Conflict
from sortitor.core.lifecycle import (
    COUNTED,
    SEATED,
    TRANSITIONS,
    check_transition,
    may_follow,
    steps,
)
from sortitor.core.vocabulary import Basis, Role, Stage


@pytest.mark.parametrize(("before", "after"), [*product(Stage, Stage)])
def test_every_pair_of_stages(before: Stage, after: Stage) -> None:
    """A device stands still or goes on; only a revert goes the way back."""
    forward = before is after or after in TRANSITIONS[before]
    assert may_follow(before, after) is forward
    assert ((before, after) in set(steps(reverting=False))) is forward
    back = forward or before in TRANSITIONS[after]
    assert ((before, after) in set(steps(reverting=True))) is back
    if forward:
        check_transition("x", before, after)
    else:
        with pytest.raises(Conflict, match=f"x is {before}; it cannot become {after}"):
            check_transition("x", before, after)


def test_every_stage_has_its_transitions_and_none_leads_to_itself() -> None:
    assert set(TRANSITIONS) == set(Stage)
    assert all(stage not in following for stage, following in TRANSITIONS.items())


def test_what_is_out_of_use_takes_nothing() -> None:
    for stages in (SEATED, COUNTED):
        assert Stage.RETIRED not in stages
        assert Stage.AWAITED not in stages


def test_the_stronger_basis() -> None:
    assert sorted(Basis, key=lambda basis: basis.strength) == [
        Basis.INFERRED,
        Basis.PASS,
        Basis.DECLARED,
        Basis.MANUAL,
    ]


def test_the_wider_role() -> None:
    assert covers(Role.ADMINISTRATOR, Role.VIEWER)
    assert not covers(Role.VIEWER, Role.COORDINATOR)
    assert lesser(Role.VIEWER, Role.ADMINISTRATOR) is Role.VIEWER
    assert lesser(Role.ADMINISTRATOR, Role.COORDINATOR) is Role.COORDINATOR
    assert may(Role.VIEWER, Permission.LOOK)
    assert not may(Role.VIEWER, Permission.SEE_PERSONAL)
