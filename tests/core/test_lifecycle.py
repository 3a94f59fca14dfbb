"""Stages: which follow which."""

from itertools import product

import pytest

from sortitor.core.errors import Conflict
from sortitor.core.lifecycle import COUNTED, SEATED, TRANSITIONS, check_transition
from sortitor.core.vocabulary import Basis, Role, Stage


def test_every_stage_has_its_transitions_and_none_leads_to_itself() -> None:
    assert set(TRANSITIONS) == set(Stage)
    for before, after in product(Stage, Stage):
        if after in TRANSITIONS[before]:
            assert before is not after
            check_transition("x", before, after)
        else:
            with pytest.raises(Conflict, match="cannot become"):
                check_transition("x", before, after)


def test_what_is_out_of_use_takes_nothing() -> None:
    for stages in (SEATED, COUNTED):
        assert Stage.RETIRED not in stages
        assert Stage.AWAITED not in stages


def test_the_stronger_basis_and_the_wider_role() -> None:
    assert sorted(Basis, key=lambda basis: basis.strength) == [
        Basis.INFERRED,
        Basis.PASS,
        Basis.DECLARED,
        Basis.MANUAL,
    ]
    assert Role.ADMINISTRATOR.covers(Role.VIEWER)
    assert not Role.VIEWER.covers(Role.COORDINATOR)
