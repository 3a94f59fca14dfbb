"""What a gate is made of: policies in order, the last of which is the baseline."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from pydantic import Field, model_validator

from sortitor.core import versions
from sortitor.core.documents import Document, Name, NamedDocument
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.vocabulary import Ownership, Platform, Returning

QUOTA_BOUNDS = (1, 50)


class PlatformRule(Document):
    """Whether a platform is open, and for which versions.

    The bounds are inclusive over the components that they state.
    """

    open: bool = Field(default=True, description="Whether devices of the platform may come in.")
    os_min: str | None = Field(default=None, description="The oldest version let in.")
    os_max: str | None = Field(default=None, description="The newest version let in.")


class Policy(NamedDocument):
    """One gate policy. What it leaves null, or a platform that it leaves out, it does not state."""

    groups: tuple[Name, ...] | None = Field(
        default=None, description="Whom it holds: members of any of these groups; null: everyone."
    )
    platforms: dict[Platform, PlatformRule] = Field(
        default={}, description="What it says of each platform."
    )
    ownerships: tuple[Ownership, ...] | None = Field(
        default=None, description="Whose devices may come in."
    )
    quota: int | None = Field(default=None, description="Devices per person, 1 to 50.")
    declared_only: bool | None = Field(
        default=None, description="Whether only devices that were declared before may come in."
    )
    returning: Returning | None = Field(
        default=None, description="What happens to a retired device that knocks."
    )

    def holds(self, groups: frozenset[str]) -> bool:
        """Whether the policy's audience holds a person with these groups."""
        if self.groups is None:
            return True
        wanted = {name.casefold() for name in self.groups}
        return not wanted.isdisjoint(name.casefold() for name in groups)


class Gate(Document):
    """The whole gate: policies in order. Each facet comes from the first that holds the arrival and
    states it.
    """

    policies: tuple[Policy, ...] = Field(
        max_length=200, description="In order; the last is the baseline and states everything."
    )

    @model_validator(mode="before")
    @classmethod
    def _from_a_list(cls, value: Any) -> Any:
        """Older journal entries keep the bare list of policies."""
        return {"policies": value} if isinstance(value, list | tuple) else value

    def check(self) -> None:
        """Raise BadInput naming every fault: bounds, unknown versions, names twice, a baseline
        that leaves a facet open.
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

    def quota_for(self, groups: frozenset[str]) -> tuple[int, str]:
        """The quota of a person with these groups, and the policy that states it."""
        policy = next(
            policy for policy in self.policies if policy.quota is not None and policy.holds(groups)
        )
        return policy.quota or 0, policy.name

    @property
    def lowest_quota(self) -> int:
        """Whoever holds no more devices than this is over no quota."""
        return min(policy.quota for policy in self.policies if policy.quota is not None)

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
            if platform not in baseline.platforms:
                yield _left_open(place, f"platforms/{platform}")
        if baseline.groups is not None:
            detail = "The last policy is the baseline; it holds everyone."
            yield FieldProblem(f"/policies/{place}/groups", "baseline_audience", detail)


def _left_open(place: int, facet: str) -> FieldProblem:
    detail = f"The baseline must state {facet}: nothing stands behind it."
    return FieldProblem(f"/policies/{place}/{facet}", "baseline_open", detail)


def _problems_of(place: int, policy: Policy) -> Iterator[FieldProblem]:
    low, high = QUOTA_BOUNDS
    if policy.quota is not None and not low <= policy.quota <= high:
        detail = (
            f"The quota of {policy.name!r} is {policy.quota}; it must be {low} to {high} devices"
            " per person."
        )
        yield FieldProblem(f"/policies/{place}/quota", "quota_bounds", detail)
    for platform, rule in policy.platforms.items():
        yield from _bound_problems(
            pointer=f"/policies/{place}/platforms/{platform}",
            whose=f"{policy.name!r}, {platform}",
            rule=rule,
        )


def _bound_problems(pointer: str, whose: str, rule: PlatformRule) -> Iterator[FieldProblem]:
    for side, bound in (("os_min", rule.os_min), ("os_max", rule.os_max)):
        try:
            versions.components(bound or "0")
        except ValueError as error:
            yield FieldProblem(f"{pointer}/{side}", "bad_version", f"{whose}: {error}.")
            return
    if rule.os_min and rule.os_max and versions.above(rule.os_min, rule.os_max):
        detail = f"{whose}: the lower bound {rule.os_min} is above the upper bound {rule.os_max}."
        yield FieldProblem(pointer, "bounds_crossed", detail)


def starting_gate() -> Gate:
    """The gate of a new installation: every platform and ownership open, five devices a person,
    returning devices parked.
    """
    baseline = Policy(
        name="Baseline",
        platforms={platform: PlatformRule() for platform in Platform},
        ownerships=(Ownership.CORPORATE, Ownership.PERSONAL, Ownership.PARTNER),
        quota=5,
        declared_only=False,
        returning=Returning.PARK,
    )
    return Gate(policies=(baseline,))
