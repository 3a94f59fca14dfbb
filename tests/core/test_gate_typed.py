"""Facets as somebody types them at a terminal."""

from __future__ import annotations

import pytest

from sortitor.core.errors import BadInput
from sortitor.core.gate import (
    FORMS,
    Listing,
    Policy,
    Quota,
    VersionBounds,
    restated,
    statement_said,
    statements,
    typed,
)
from sortitor.core.vocabulary import Facet, Listed, Ownership, Platform, Returning, SignInWay

MEANT = [
    (Facet.DOOR, "Closed", False),
    (Facet.VERSIONS, "12..", VersionBounds(oldest="12")),
    (Facet.VERSIONS, "..15.1", VersionBounds(newest="15.1")),
    (Facet.VERSIONS, "12 .. 15", VersionBounds(oldest="12", newest="15")),
    (Facet.MAKERS, "only Kelmar, Ondry", Listing(listed=Listed.ONLY, names=("Kelmar", "Ondry"))),
    (Facet.MODELS, "All but Mate 3", Listing(listed=Listed.ALL_BUT, names=("Mate 3",))),
    (Facet.OWNERSHIPS, "corporate,partner", (Ownership.CORPORATE, Ownership.PARTNER)),
    (Facet.DECLARED_ONLY, "refused", True),
    (Facet.QUOTA, "3", Quota(devices=3)),
    (Facet.QUOTA, "2 personal", Quota(devices=2, ownerships=(Ownership.PERSONAL,))),
    (Facet.SIGN_IN, "mail", SignInWay.MAIL),
    (Facet.TERMS, "none", ()),
    (Facet.TERMS, "On board, Ashore", ("On board", "Ashore")),
    (Facet.RETURNING, "park", Returning.PARK),
]
POLICIES = [Policy(name="Crew", groups=("Crew",)), Policy(name="Baseline")]


@pytest.mark.parametrize(("facet", "text", "value"), MEANT)
def test_what_is_typed_is_what_the_policy_says(facet: Facet, text: str, value: object) -> None:
    assert typed(facet, text) == value
    [crew, _] = restated(POLICIES, "crew", facet, Platform.IOS, typed(facet, text))
    [said] = statements(crew)
    assert (said.facet, said.platform, said.value) == (facet, Platform.IOS, value)
    assert statement_said(said)
    assert restated([crew, POLICIES[1]], "Crew", facet, Platform.IOS, None) == POLICIES


def test_every_facet_can_be_typed_and_says_how() -> None:
    assert {facet for facet, _, _ in MEANT} == set(Facet) == set(FORMS)


@pytest.mark.parametrize("facet", Facet)
@pytest.mark.parametrize("text", ["", "  ", "12", "only", "only ,", "..", "2 kings", "٣x", "yes"])
def test_what_means_nothing_is_told_with_the_form(facet: Facet, text: str) -> None:
    meant = (facet is Facet.QUOTA and text == "12") or (
        facet is Facet.TERMS and text in ("12", "only", "..", "2 kings", "٣x", "yes")
    )
    if meant or (facet is Facet.TERMS and text == "only ,"):
        assert typed(facet, text)
        return
    with pytest.raises(BadInput) as refused:
        typed(facet, text)
    assert FORMS[facet] in str(refused.value.remedy)


def test_what_stands_nowhere_is_told() -> None:
    with pytest.raises(BadInput, match="said of a platform"):
        restated(POLICIES, "Crew", Facet.DOOR, None, True)
    with pytest.raises(BadInput, match="no policy"):
        restated(POLICIES, "Nobody", Facet.QUOTA, None, None)
    [crew, _] = restated(POLICIES, "CREW", Facet.QUOTA, None, Quota(devices=2))
    assert crew.quota == Quota(devices=2)
