"""How a person said that such files are to be read: remembered for the supplier."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sortitor.core.dates import Order


@dataclass(frozen=True, slots=True)
class Manner:
    """What was decided about columns and words of a file.

    dates:     header → whether the day or the month comes first
    trusted:   headers whose numbers are not doubted
    spellings: field → spelling key → the name that is meant; None: a name of its own
    makers:    the makers that the fleet knows
    """

    dates: Mapping[str, Order] = field(default_factory=dict)
    trusted: frozenset[str] = frozenset()
    spellings: Mapping[str, Mapping[str, str | None]] = field(default_factory=dict)
    makers: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """What is kept of it."""
        return {
            "dates": dict(self.dates),
            "trusted": sorted(self.trusted),
            "spellings": {name: dict(words) for name, words in self.spellings.items()},
        }

    def over(self, other: Manner) -> Manner:
        """This manner where it says something, else the other."""
        fields = {*self.spellings, *other.spellings}
        return replace(
            self,
            dates={**other.dates, **self.dates},
            trusted=self.trusted | other.trusted,
            spellings={
                name: {**other.spellings.get(name, {}), **self.spellings.get(name, {})}
                for name in fields
            },
        )


def manner_of(kept: Mapping[str, Any], makers: tuple[str, ...] = ()) -> Manner:
    """A manner as it was kept."""
    return Manner(
        dates=dict(kept.get("dates", {})),
        trusted=frozenset(kept.get("trusted", ())),
        spellings=dict(kept.get("spellings", {})),
        makers=makers,
    )
