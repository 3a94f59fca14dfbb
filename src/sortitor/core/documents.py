"""What a coordinator writes down and the service obeys: gate, naming, pools, rules, cohorts,
orders, passes.

A document is one class for every room: its fields and their bounds stand in its model and nowhere
else. It is stored whole, carried by the HTTP interface and the client, and asked for by the
command line, which makes its options from the same fields.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, Any

from pydantic import AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field, StringConstraints

from sortitor.core import building

Text = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=500)]
Name = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=100)]


def or_nothing(value: Any) -> Any:
    """A field that was left empty says nothing."""
    return None if isinstance(value, str) and not value.strip() else value


def _no_number(example: str) -> BeforeValidator:
    """A number alone is no date, though pydantic reads one as the seconds since 1970."""

    def written_out(value: Any) -> Any:
        if isinstance(value, str) and value.strip().lstrip("+-").replace(".", "", 1).isdecimal():
            raise ValueError(f"It is written as {example}")
        return value

    return BeforeValidator(written_out)


#: What somebody gives as a day or a moment (RFC 3339).
Day = Annotated[date, _no_number("2026-01-19")]
Moment = Annotated[AwareDatetime, _no_number("2026-01-19T09:00:00Z")]
Note = Annotated[Text | None, BeforeValidator(or_nothing)]
#: Which devices, in the filter language (RFC 7644 §3.4.2.2); None means all.
FilterText = Annotated[str | None, Field(max_length=4_000), BeforeValidator(or_nothing)]


class Document(BaseModel):
    """The base: unknown fields are refused, and nothing changes under its reader."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=building.when_used)

    def check(self) -> None:
        """Raise BadInput for what the fields' types cannot say, such as a filter's grammar."""

    def as_json(self) -> dict[str, Any]:
        """The document as it is stored and as the journal keeps it."""
        return self.model_dump(mode="json")


class NamedDocument(Document):
    """A document that people call by its name."""

    name: Name = Field(description="What it is called.")


@dataclass(frozen=True, slots=True)
class Difference:
    """One value that is another now, with the words for where it stands: `Officers › quota`."""

    field: str
    before: str | None
    after: str | None

    def __str__(self) -> str:
        return f"{self.field} {self.before or '–'} → {self.after or '–'}"


def differences(before: Any, after: Any) -> tuple[Difference, ...]:
    """What changed between two documents as JSON, one by one; nothing stands for None.

    Entries of a list that have a name are compared by it, wherever they stand.
    """
    return tuple(_compared(_titled(()), before, after))


def told(changes: tuple[Difference, ...], most: int = 3) -> str:
    """The changes in a line: `seats 100 → 120, name A → B and 2 more`."""
    words = ", ".join(map(str, changes[:most]))
    left = len(changes) - most
    return f"{words} and {left} more" if left > 0 else words


def _titled(path: tuple[str, ...]) -> str:
    """A place in words, from the outside in: `policies › Officers › quota › devices`."""
    return " › ".join(part.replace("_", " ") for part in path)


def _compared(
    title: str, before: Any, after: Any, path: tuple[str, ...] = ()
) -> Iterator[Difference]:
    if before == after:
        return
    parts = _parts(before, after)
    if parts is None:
        yield Difference(_titled(path) or title, _shown(before), _shown(after))
        return
    former, present = parts
    for key in [*former, *(key for key in present if key not in former)]:
        yield from _compared(title, former.get(key), present.get(key), (*path, key))


def _parts(before: Any, after: Any) -> tuple[Mapping[str, Any], Mapping[str, Any]] | None:
    """Both sides by key, where they can be compared piece by piece."""
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        return before, after
    former, present = _by_name(before), _by_name(after)
    if former is None or present is None or not (former or present):
        return None
    if list(former) == list(present):
        return former, present
    # Who comes or goes is told as a whole; the order only where those that stay changed places.
    stays = former.keys() & present.keys()
    order = [[key for key in side if key in stays] for side in (former, present)]
    if order[0] == order[1]:
        return former, present
    return {**former, "order": order[0]}, {**present, "order": order[1]}


def _by_name(value: Any) -> dict[str, Any] | None:
    if not isinstance(value, list | tuple):
        return None
    if any(not isinstance(entry, Mapping) for entry in value):
        return None
    found = {}
    for entry in value:
        name = entry.get("name") or entry.get("product")
        if name is None:
            return None
        found[str(name)] = {k: v for k, v in entry.items() if k not in ("name", "product")}
    return found


def _shown(value: Any) -> str | None:
    if value in (None, "", [], {}):
        return None
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | tuple):
        return ", ".join(str(_shown(one)) for one in value)
    if isinstance(value, Mapping):
        told = ((key.replace("_", " "), _shown(one)) for key, one in value.items())
        return ", ".join(f"{key} {one}" for key, one in told if one is not None) or None
    return str(value)
