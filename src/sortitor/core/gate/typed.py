"""One facet as somebody types it: `closed`, `12..15`, `only Kelmar, Halyard`, `2 corporate`."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from pydantic import ValidationError

from sortitor.core.errors import BadInput
from sortitor.core.gate.facets import FIELDS, OF_A_PLATFORM
from sortitor.core.gate.policies import Listing, PlatformRule, Policy, Quota, VersionBounds
from sortitor.core.vocabulary import Facet, Listed, Ownership, Platform, Returning, SignInWay
from sortitor.core.words import LABELS

#: How each facet is typed.
FORMS: Mapping[Facet, str] = {
    Facet.DOOR: "open or closed",
    Facet.VERSIONS: "12.. (from 12), ..15 (up to 15) or 12..15",
    Facet.MAKERS: "only Kelmar, Halyard or all but Kelmar",
    Facet.MODELS: "only Mate 3 or all but Mate 3, Halyard S2",
    Facet.OWNERSHIPS: "corporate, personal, partner",
    Facet.DECLARED_ONLY: "refused or allowed",
    Facet.QUOTA: "a number, or a number with ownerships: 2 corporate, partner",
    Facet.SIGN_IN: ", ".join(SignInWay),
    Facet.TERMS: "names of terms, or none",
    Facet.RETURNING: ", ".join(Returning),
}


def restated(
    policies: Sequence[Policy], name: str, facet: Facet, platform: Platform | None, value: Any
) -> list[Policy]:
    """The policies with another word of one of them on a facet: of a platform, or (None) of all.
    `value`: as `typed` gives it; None: it says nothing of it any more.

    Raises BadInput where there is no such policy, or the facet is said of platforms only.
    """
    if platform is None and facet in OF_A_PLATFORM:
        raise BadInput(
            "of_a_platform",
            f"The facet {LABELS[Facet][facet]!r} is said of a platform.",
            "Name the platform as well.",
        )
    places = [place for place, one in enumerate(policies) if one.name.lower() == name.lower()]
    if not places:
        names = ", ".join(f"“{one.name}”" for one in policies)
        raise BadInput("no_policy", f"There is no policy “{name}”.", f"There are {names}.")
    changed = list(policies)
    changed[places[0]] = _restated(policies[places[0]], facet, platform, value)
    return changed


def _restated(policy: Policy, facet: Facet, platform: Platform | None, value: Any) -> Policy:
    if platform is None:
        return policy.model_copy(update={FIELDS[facet]: value})
    rule = policy.platforms.get(platform, PlatformRule())
    rule = rule.model_copy(update={FIELDS[facet]: value})
    platforms = {**policy.platforms, platform: rule}
    if rule == PlatformRule():
        del platforms[platform]
    return policy.model_copy(update={"platforms": platforms})


def typed(facet: Facet, text: str) -> Any:
    """What is meant for a facet. Raises BadInput with the form that it has."""
    try:
        return _READERS[facet](text.strip())
    except (ValueError, ValidationError) as error:
        raise BadInput(
            "not_typed_so",
            f"{text!r} says nothing of the facet {LABELS[Facet][facet]!r}.",
            f"Write {FORMS[facet]}.",
        ) from error


def _one_of(words: Mapping[str, bool]) -> Callable[[str], bool]:
    def read(text: str) -> bool:
        if text.lower() not in words:
            raise ValueError(text)
        return words[text.lower()]

    return read


def _bounds(text: str) -> VersionBounds:
    oldest, dots, newest = text.partition("..")
    if not dots or not (oldest.strip() or newest.strip()):
        raise ValueError(text)
    return VersionBounds(oldest=oldest.strip() or None, newest=newest.strip() or None)


def _listing(text: str) -> Listing:
    for words, listed in (("only ", Listed.ONLY), ("all but ", Listed.ALL_BUT)):
        if text.lower().startswith(words):
            return Listing(listed=listed, names=_names(text[len(words) :]))
    raise ValueError(text)


def _names(text: str) -> tuple[str, ...]:
    names = tuple(name for part in text.split(",") if (name := part.strip()))
    if not names:
        raise ValueError(text)
    return names


def _ownerships(text: str) -> tuple[Ownership, ...]:
    return tuple(Ownership(name.lower()) for name in _names(text))


def _quota(text: str) -> Quota:
    number, _, whose = text.partition(" ")
    return Quota(devices=int(number), ownerships=_ownerships(whose) if whose.strip() else None)


def _terms(text: str) -> tuple[str, ...]:
    return () if text.lower() == "none" else _names(text)


_READERS: Mapping[Facet, Callable[[str], Any]] = {
    Facet.DOOR: _one_of({"open": True, "closed": False}),
    Facet.VERSIONS: _bounds,
    Facet.MAKERS: _listing,
    Facet.MODELS: _listing,
    Facet.OWNERSHIPS: _ownerships,
    Facet.DECLARED_ONLY: _one_of({"refused": True, "allowed": False}),
    Facet.QUOTA: _quota,
    Facet.SIGN_IN: lambda text: SignInWay(text.lower()),
    Facet.TERMS: _terms,
    Facet.RETURNING: lambda text: Returning(text.lower()),
}
