"""What a gate is made of: policies in order, the last of which is the baseline."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, field_validator, model_validator

from sortitor.core import filters, versions
from sortitor.core.documents import (
    Day,
    Document,
    FilterText,
    Name,
    NamedDocument,
    Note,
    or_nothing,
)
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import ATTRIBUTES, Filter
from sortitor.core.vocabulary import Listed, Ownership, Platform, Returning, SignInWay

QUOTA_BOUNDS = (1, 50)
#: What a device says of itself, or what becomes of it here. A policy for devices goes by what was
#: declared of them: nobody chooses a policy by what a device is made to say.
_NOT_DECLARED = frozenset({
    "stage", "platform", "osVersion", "flag", "enrolledAt", "lastSeenAt", "idleDays", "held",
    "id", "cohorts", "name",
})  # fmt: skip


#: A version as it is written; left empty, it says nothing.
VersionText = Annotated[str | None, Field(max_length=50), BeforeValidator(or_nothing)]


@dataclass(frozen=True, slots=True)
class Who:
    """Of whom and of what a policy's audience is judged: the person's groups and user name, and
    what was declared of the device (attribute → value; None where nobody declared it).
    """

    groups: frozenset[str] = frozenset()
    person: str | None = None
    device: Mapping[str, Any] | None = None


class VersionBounds(Document):
    """Which versions come in. A bound is inclusive over the components it states; none: any."""

    oldest: VersionText = Field(default=None, description="The oldest version let in.")
    newest: VersionText = Field(default=None, description="The newest version let in.")


class Listing(Document):
    """Only these, or all but these; compared without case, blanks and punctuation."""

    listed: Listed = Field(description="`only`: these come in; `all_but`: these do not.")
    names: tuple[Name, ...] = Field(max_length=200, description="Makers, or models.")


class Quota(Document):
    """How many devices a person may have."""

    devices: int = Field(description="Devices per person, 1 to 50.")
    ownerships: tuple[Ownership, ...] | None = Field(
        default=None, description="Which devices count: of these ownerships; null: all."
    )

    @model_validator(mode="before")
    @classmethod
    def _from_a_number(cls, value: Any) -> Any:
        """A bare number counts devices of every ownership."""
        is_number = isinstance(value, int) and not isinstance(value, bool)
        return {"devices": value} if is_number else value


class Facets(Document):
    """What can be said for all platforms, and for each."""

    ownerships: tuple[Ownership, ...] | None = Field(
        default=None, description="Whose devices may come in."
    )
    declared_only: bool | None = Field(
        default=None, description="Whether only devices that were declared before may come in."
    )
    quota: Quota | None = Field(
        default=None,
        description="Devices per person; a platform's own holds beside the one for all.",
    )
    sign_in: SignInWay | None = Field(default=None, description="How the person must be proven.")
    terms: tuple[Name, ...] | None = Field(
        default=None, max_length=10, description="Which terms must be accepted; empty: none."
    )
    returning: Returning | None = Field(
        default=None, description="What happens to a retired device that knocks."
    )


class PlatformRule(Facets):
    """What a policy says of one platform; what it leaves null it does not state."""

    open: bool | None = Field(default=None, description="Whether the platform may come in.")
    versions: VersionBounds | None = Field(default=None, description="Which versions come in.")
    makers: Listing | None = Field(default=None, description="Whose make comes in.")
    models: Listing | None = Field(default=None, description="Which models come in.")

    @model_validator(mode="before")
    @classmethod
    def _from_bare_bounds(cls, value: Any) -> Any:
        """Older journal entries keep the bounds beside the door, and both are stated."""
        if not isinstance(value, Mapping) or not value.keys() & {"os_min", "os_max"}:
            return value
        rest = {key: one for key, one in value.items() if key not in ("os_min", "os_max")}
        bounds = {"oldest": value.get("os_min"), "newest": value.get("os_max")}
        return {"open": True, **rest, "versions": bounds}


class Policy(NamedDocument, Facets):
    """One gate policy. What it leaves null, or a platform that it leaves out, it does not state.

    It holds everyone, or members of any of its groups, any of its people, and the devices that its
    filter fits.
    """

    note: Note = Field(default=None, description="Why it is there.")
    groups: tuple[Name, ...] | None = Field(
        default=None, description="Whom it holds: members of any of these groups."
    )
    people: tuple[Name, ...] | None = Field(
        default=None, description="Whom it holds: these, by user name."
    )
    devices: FilterText = Field(
        default=None, description="Which devices it holds, by what was declared of them: a filter."
    )
    until: Day | None = Field(
        default=None, description="The last day on which it counts; null: without an end."
    )
    platforms: dict[Platform, PlatformRule] = Field(
        default={}, description="What it says of each platform."
    )

    @field_validator("people", "groups")
    @classmethod
    def _once_each(cls, value: tuple[str, ...] | None) -> tuple[str, ...] | None:
        return None if value is None else tuple({one.casefold(): one for one in value}.values())

    @property
    def holds_everyone(self) -> bool:
        """Whether it names nobody in particular."""
        return self.groups is None and self.people is None and self.devices is None

    def is_over(self, today: date) -> bool:
        """Whether its last day has passed."""
        return self.until is not None and self.until < today

    @property
    def device_filter(self) -> Filter | None:
        """Its filter over devices, read."""
        return filters.parse(self.devices) if self.devices else None

    def holds(self, who: Who) -> bool:
        """Whether the policy's audience holds an arrival."""
        if self.holds_everyone or _named(self.groups, who.groups):
            return True
        if who.person is not None and _named(self.people, {who.person}):
            return True
        wanted = self.device_filter if who.device is not None else None
        return wanted is not None and filters.matches(wanted, who.device or {})[0]


def _named(wanted: tuple[str, ...] | None, there: frozenset[str] | set[str]) -> bool:
    folded = {name.casefold() for name in wanted or ()}
    return not folded.isdisjoint(name.casefold() for name in there)


class Gate(Document):
    """The whole gate: policies in order. Each facet comes from the first that holds the arrival and
    states it; within one policy a platform's own word goes before the one for all.
    """

    policies: tuple[Policy, ...] = Field(
        max_length=200, description="In order; the last is the baseline and states everything."
    )

    @model_validator(mode="before")
    @classmethod
    def _from_a_list(cls, value: Any) -> Any:
        """Older journal entries keep the bare list of policies."""
        return {"policies": value} if isinstance(value, list | tuple) else value

    def on(self, day: date) -> Gate:
        """The gate without the policies that have ended before a day."""
        counting = tuple(policy for policy in self.policies if not policy.is_over(day))
        return self if len(counting) == len(self.policies) else Gate(policies=counting)

    def audience(self, who: Who) -> list[Policy]:
        """The policies that hold an arrival, in order."""
        return [policy for policy in self.policies if policy.holds(who)]

    @property
    def named_groups(self) -> frozenset[str]:
        """The groups that policies are for, case folded: no others tell people apart."""
        return frozenset(
            name.casefold() for policy in self.policies for name in policy.groups or ()
        )

    @property
    def named_people(self) -> frozenset[str]:
        """The user names that policies are for, case folded."""
        return frozenset(
            name.casefold() for policy in self.policies for name in policy.people or ()
        )

    def check(self) -> None:
        """Raise BadInput naming every fault: bounds, unknown versions, filters, names twice, a
        baseline that leaves a facet open.
        """
        problems = [
            problem
            for place, policy in enumerate(self.policies)
            for problem in _problems_of(place, policy)
        ]
        problems += self._names_twice()
        problems += self._baseline_problems()
        if problems:
            raise BadInput(
                code="bad_policy",
                detail=problems[0].detail,
                remedy="Correct the policy; nothing was saved.",
                problems=tuple(problems),
            )

    @property
    def asks_for_devices(self) -> bool:
        """Whether any audience goes by what was declared of a device."""
        return any(policy.devices for policy in self.policies)

    @property
    def lowest_quota(self) -> int:
        """Whoever holds no more devices than this is over no quota."""
        stated = [
            facets.quota.devices
            for policy in self.policies
            for facets in (policy, *policy.platforms.values())
            if facets.quota is not None
        ]
        return min(stated)

    def _names_twice(self) -> Iterator[FieldProblem]:
        names = [policy.name.casefold() for policy in self.policies]
        for place, name in enumerate(names):
            if name in names[:place]:
                detail = f"Two policies are called {self.policies[place].name!r}."
                yield FieldProblem(f"/policies/{place}/name", "name_taken", detail)

    def _baseline_problems(self) -> Iterator[FieldProblem]:
        if not self.policies:
            detail = "The gate needs at least its baseline policy."
            yield FieldProblem("/policies", "no_baseline", detail)
            return
        place, baseline = len(self.policies) - 1, self.policies[-1]
        for facet in ("ownerships", "quota", "declared_only", "returning"):
            if getattr(baseline, facet) is None:
                yield _left_open(place, facet)
        for platform in Platform:
            rule = baseline.platforms.get(platform)
            if rule is None or rule.open is None:
                yield _left_open(place, f"platforms/{platform}")
        if not baseline.holds_everyone:
            detail = "The last policy is the baseline; it holds everyone."
            yield FieldProblem(f"/policies/{place}/groups", "baseline_audience", detail)
        if baseline.until is not None:
            detail = "The last policy is the baseline; it has no last day."
            yield FieldProblem(f"/policies/{place}/until", "baseline_ends", detail)


def _left_open(place: int, facet: str) -> FieldProblem:
    detail = f"The baseline must state {facet}: nothing stands behind it."
    return FieldProblem(f"/policies/{place}/{facet}", "baseline_open", detail)


def _problems_of(place: int, policy: Policy) -> Iterator[FieldProblem]:
    pointer = f"/policies/{place}"
    yield from _filter_problems(f"{pointer}/devices", policy)
    yield from _quota_problems(pointer, f"{policy.name!r}", policy.quota)
    for platform, rule in policy.platforms.items():
        below, whose = f"{pointer}/platforms/{platform}", f"{policy.name!r}, {platform.label}"
        yield from _quota_problems(below, whose, rule.quota)
        if rule.versions is not None:
            yield from _bound_problems(f"{below}/versions", whose, rule.versions)
        for facet, listing in (("makers", rule.makers), ("models", rule.models)):
            if listing is not None and not listing.names:
                detail = f"{whose}: the list of {facet} is empty; it lets in nobody or everybody."
                yield FieldProblem(f"{below}/{facet}", "empty_list", f"{detail} Name one.")


def _filter_problems(pointer: str, policy: Policy) -> Iterator[FieldProblem]:
    try:
        wanted = policy.device_filter
    except BadInput as error:
        first = error.problems[0] if error.problems else None
        detail = f"{policy.name!r}: {error.detail}"
        yield FieldProblem(pointer, error.code, detail, first.suggestion if first else "")
        return
    for name in sorted(filters.attributes(wanted)) if wanted else ():
        if name in _NOT_DECLARED or ATTRIBUTES[name].of == "person":
            detail = (
                f"{policy.name!r}: a policy for devices goes by what was declared of them before"
                f" they arrive; {name} is not."
            )
            yield FieldProblem(pointer, "not_declared", detail)


def _quota_problems(pointer: str, whose: str, quota: Quota | None) -> Iterator[FieldProblem]:
    low, high = QUOTA_BOUNDS
    if quota is None:
        return
    if not low <= quota.devices <= high:
        detail = (
            f"The quota of {whose} is {quota.devices}; it must be {low} to {high} devices per"
            " person."
        )
        yield FieldProblem(f"{pointer}/quota", "quota_bounds", detail)
    if quota.ownerships == ():
        detail = f"The quota of {whose} counts no ownership, so that it never holds."
        yield FieldProblem(f"{pointer}/quota/ownerships", "quota_counts_nothing", detail)


def _bound_problems(pointer: str, whose: str, bounds: VersionBounds) -> Iterator[FieldProblem]:
    for side, bound in (("oldest", bounds.oldest), ("newest", bounds.newest)):
        try:
            versions.components(bound or "0")
        except ValueError as error:
            yield FieldProblem(f"{pointer}/{side}", "bad_version", f"{whose}: {error}.")
            return
    if bounds.oldest and bounds.newest and versions.above(bounds.oldest, bounds.newest):
        detail = (
            f"{whose}: the lower bound {bounds.oldest} is above the upper bound {bounds.newest}."
        )
        yield FieldProblem(pointer, "bounds_crossed", detail)


def starting_gate() -> Gate:
    """The gate of a new installation: every platform and ownership open, five devices a person,
    returning devices parked.
    """
    baseline = Policy(
        name="Baseline",
        platforms={platform: PlatformRule(open=True) for platform in Platform},
        ownerships=(Ownership.CORPORATE, Ownership.PERSONAL, Ownership.PARTNER),
        quota=Quota(devices=5),
        declared_only=False,
        sign_in=SignInWay.NOBODY,
        terms=(),
        returning=Returning.PARK,
    )
    return Gate(policies=(baseline,))
