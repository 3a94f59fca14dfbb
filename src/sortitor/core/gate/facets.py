"""Which policy has the word on each facet: the first that holds the arrival and states it."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sortitor.core import versions
from sortitor.core.gate.policies import Listing, PlatformRule, Policy, Quota, VersionBounds
from sortitor.core.previews import listed
from sortitor.core.vocabulary import Facet, Listed, Ownership, Platform, Returning, SignInWay

#: Where each facet stands in a policy, or in what it says of a platform.
FIELDS: dict[Facet, str] = {
    Facet.DOOR: "open",
    Facet.VERSIONS: "versions",
    Facet.MAKERS: "makers",
    Facet.MODELS: "models",
    Facet.OWNERSHIPS: "ownerships",
    Facet.DECLARED_ONLY: "declared_only",
    Facet.QUOTA: "quota",
    Facet.SIGN_IN: "sign_in",
    Facet.TERMS: "terms",
    Facet.RETURNING: "returning",
}
#: Those that are said of a platform only.
OF_A_PLATFORM = frozenset({Facet.DOOR, Facet.VERSIONS, Facet.MAKERS, Facet.MODELS})


@dataclass(frozen=True, slots=True)
class Statement:
    """What one policy says of a facet: of one platform, or (None) of all."""

    facet: Facet
    platform: Platform | None
    policy: str
    value: Any


def statements(policy: Policy) -> Iterator[Statement]:
    """Everything that a policy states, for all platforms first."""
    for facet, field in FIELDS.items():
        if facet not in OF_A_PLATFORM and getattr(policy, field) is not None:
            yield Statement(facet, None, policy.name, getattr(policy, field))
    for platform, rule in policy.platforms.items():
        for facet, field in FIELDS.items():
            if getattr(rule, field) is not None:
                yield Statement(facet, platform, policy.name, getattr(rule, field))


def own(policy: Policy, facet: Facet, platform: Platform | None) -> Any:
    """What a policy says of a facet for this platform alone, or (None) for all; None: nothing."""
    rule: Policy | PlatformRule | None = policy
    if platform is not None:
        rule = policy.platforms.get(platform)
    if rule is None or (platform is None and facet in OF_A_PLATFORM):
        return None
    return getattr(rule, FIELDS[facet])


def stated(policies: Sequence[Policy], facet: Facet, platform: Platform | None) -> Statement | None:
    """The first word on a facet; a policy's own word on the platform goes before its general one.

    Not for the quota, of which two may hold: see `quotas`.
    """
    for policy in policies:
        for place in (platform, None) if platform is not None else (None,):
            value = own(policy, facet, place)
            if value is not None:
                return Statement(facet, place, policy.name, value)
    return None


def must(policies: Sequence[Policy], facet: Facet, platform: Platform | None) -> Statement:
    """The word on a facet that the baseline always states."""
    found = stated(policies, facet, platform)
    assert found is not None, f"the baseline states {facet}"
    return found


def quotas(policies: Sequence[Policy], platform: Platform | None) -> list[Statement]:
    """The quotas that hold together: the one for all platforms, and the platform's own."""
    found = []
    for place in (None, platform) if platform is not None else (None,):
        for policy in policies:
            value = own(policy, Facet.QUOTA, place)
            if value is not None:
                found.append(Statement(Facet.QUOTA, place, policy.name, value))
                break
    return found


@dataclass(frozen=True, slots=True)
class Winner:
    """A facet with the word that counts; `own`: the policy says it of the platform alone."""

    statement: Statement
    own: bool


def effective(policies: Sequence[Policy]) -> list[Winner]:
    """Every facet with the word that counts: for all platforms, then for each of them.

    A platform's line stands only where another word counts than the one for all.
    """
    lines = []
    for facet in FIELDS:
        general = None if facet in OF_A_PLATFORM else stated(policies, facet, None)
        if general is not None:
            lines.append(Winner(general, own=False))
        for platform in Platform:
            found = _on(policies, facet, platform)
            if found is not None and found != general:
                line = Statement(facet, platform, found.policy, found.value)
                lines.append(Winner(line, own=found.platform is not None))
    return lines


def _on(policies: Sequence[Policy], facet: Facet, platform: Platform) -> Statement | None:
    if facet is Facet.QUOTA:
        return next((one for one in quotas(policies, platform) if one.platform), None)
    return stated(policies, facet, platform)


def said(value: Any) -> str:
    """What a policy states, in the words of a cell: `from 12`, `only Kelmar`, `2 devices`."""
    if isinstance(value, VersionBounds):
        return _bounds_said(value)
    if isinstance(value, Listing):
        names = listed(value.names)
        return f"only {names}" if value.listed is Listed.ONLY else f"all but {names}"
    if isinstance(value, Quota):
        return quota_said(value)
    if isinstance(value, Returning):
        return _RETURNING[value]
    if isinstance(value, SignInWay):
        return _SIGN_IN[value]
    if isinstance(value, tuple):
        return listed(value) or "none"
    return str(value)


_RETURNING = {
    Returning.READMIT: "let back in",
    Returning.PARK: "parked",
    Returning.REFUSE: "refused",
}


_SIGN_IN = {
    SignInWay.NOBODY: "not asked for",
    SignInWay.PASSCODE: "by passcode",
    SignInWay.MAIL: "by mail",
    SignInWay.DIRECTORY: "by the directory's password",
}


def statement_said(statement: Statement) -> str:
    """The same, where yes and no need their own words."""
    if statement.facet is Facet.DOOR:
        return "open" if statement.value else "closed"
    if statement.facet is Facet.DECLARED_ONLY:
        return "refused" if statement.value else "may come in"
    return said(statement.value)


def _bounds_said(bounds: VersionBounds) -> str:
    words = []
    if bounds.oldest:
        words.append(f"from {bounds.oldest}")
    if bounds.newest:
        words.append(f"up to {bounds.newest}")
    return " ".join(words) or "any"


def quota_said(quota: Quota, platform: Platform | None = None) -> str:
    """`2 corporate Android devices`."""
    kinds = " or ".join(quota.ownerships or ())
    what = " ".join(filter(None, (kinds, platform.label if platform else "")))
    noun = "device" if quota.devices == 1 else "devices"
    return f"{quota.devices} {f'{what} ' if what else ''}{noun}"


def lets_in(bounds: VersionBounds, version: str | None) -> tuple[bool, bool]:
    """Whether a version is new enough, and not too new. One that is not stated is neither."""
    oldest, newest = bounds.oldest, bounds.newest
    old = oldest is not None and (not version or versions.below(version, oldest))
    new = newest is not None and (not version or versions.above(version, newest))
    return not old, not new


def is_listed(listing: Listing, name: str | None) -> bool:
    """Whether a maker or a model may come in by a list; one that is not stated is on no list."""
    there = spelled(name or "") in {spelled(one) for one in listing.names}
    return there if listing.listed is Listed.ONLY else not there


def spelled(name: str) -> str:
    """A maker or model as it is compared: without case, blanks and punctuation."""
    return "".join(filter(str.isalnum, unicodedata.normalize("NFKC", name).casefold()))


def counts(quota: Quota, ownership: Ownership) -> bool:
    """Whether a device of this ownership counts to the quota."""
    return quota.ownerships is None or ownership in quota.ownerships
