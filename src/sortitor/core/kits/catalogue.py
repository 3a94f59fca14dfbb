"""The catalogue: what can be set on a device, found by typing or by theme, with its bounds."""

from __future__ import annotations

import tomllib
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cache
from importlib.resources import files
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import lower
from sortitor.core.previews import listed
from sortitor.core.vocabulary import Platform, SettingType

#: The most characters of an entry of a list.
_ENTRY = 500


SettingKey = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9]*(-[a-z0-9]+)*$")]


class Setting(BaseModel):
    """One thing that can be set. `platforms`: each with the least version that knows it, "" for
    any; `least` and `most`: bounds of a number, most characters of a text, most entries of a list.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    key: SettingKey = Field(max_length=60)
    name: str = Field(min_length=1, max_length=100)
    theme: str = Field(min_length=1, max_length=60)
    says: str = Field(min_length=1, max_length=300, description="What it does, in one sentence.")
    platforms: Mapping[Platform, str]
    type: SettingType
    least: int | None = None
    most: int | None = None
    unit: str | None = None
    choices: Mapping[str, str] = Field(default_factory=dict, description="Value → its words.")
    media: tuple[str, ...] = Field(default=(), description="Media types of its file.")

    def checked(self, value: Any) -> Any:
        """The value as it is kept. Raises BadInput with what would do."""
        if not _FITS[self.type](self, value):
            detail = f"{self.name}: {_shown(value)} will not do."
            remedy = f"Give {self.form}."
            problem = FieldProblem("/value", "setting_value", detail)
            raise BadInput("setting_value", detail, remedy, (problem,))
        return value

    @property
    def form(self) -> str:
        """What a value of it is, in words."""
        if self.type is SettingType.SWITCH:
            return "true or false"
        if self.type is SettingType.NUMBER:
            return f"a whole number from {self.least} to {self.most} ({self.unit})"
        if self.type is SettingType.CHOICE:
            return f"one of {', '.join(self.choices)}"
        if self.type is SettingType.LIST:
            return f"a list of at most {self.most} texts, each once"
        if self.type is SettingType.FILE:
            return f"the digest of a file ({listed(self.media)})"
        return f"a text of 1 to {self.most} characters in one line"

    def said(self, value: Any) -> str:
        """A value of it in words: `on`, `10 minutes`, `only what is approved`."""
        if self.type is SettingType.SWITCH:
            return "on" if value else "off"
        if self.type is SettingType.NUMBER:
            return f"{value:,} {self.unit}"
        if self.type is SettingType.CHOICE:
            return self.choices[value]
        return ", ".join(value) if self.type is SettingType.LIST else str(value)


def _is_switch(setting: Setting, value: Any) -> bool:
    return isinstance(value, bool)


def _is_number(setting: Setting, value: Any) -> bool:
    if not isinstance(value, int) or isinstance(value, bool):
        return False
    least, most = setting.least, setting.most
    return (least is None or value >= least) and (most is None or value <= most)


def _is_choice(setting: Setting, value: Any) -> bool:
    return isinstance(value, str) and value in setting.choices


def _is_text(setting: Setting, value: Any) -> bool:
    return _is_line(value, setting.most or _ENTRY)


def _is_list(setting: Setting, value: Any) -> bool:
    if not isinstance(value, list | tuple) or len(value) > (setting.most or 0):
        return False
    return all(_is_line(one, _ENTRY) for one in value) and len({*value}) == len(value)


def _is_digest(setting: Setting, value: Any) -> bool:
    return isinstance(value, str) and len(value) == 64 and {*value} <= {*"0123456789abcdef"}


def _is_line(value: Any, most: int) -> bool:
    if not isinstance(value, str):
        return False
    return 0 < len(value.strip()) <= len(value) <= most and value.isprintable()


_FITS = {
    SettingType.SWITCH: _is_switch,
    SettingType.NUMBER: _is_number,
    SettingType.CHOICE: _is_choice,
    SettingType.TEXT: _is_text,
    SettingType.LIST: _is_list,
    SettingType.FILE: _is_digest,
}


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else f"{text[:57]}…"


@cache
def settings() -> Mapping[str, Setting]:
    """Key → setting, as the package has them, theme by theme."""
    text = files("sortitor.core.kits").joinpath("settings.toml").read_text(encoding="utf-8")
    found = [Setting.model_validate(one) for one in tomllib.loads(text)["setting"]]
    return {one.key: one for one in found}


def themes(catalogue: Iterable[Setting]) -> list[str]:
    """The themes in their order, each once."""
    return list(dict.fromkeys(one.theme for one in catalogue))


def search(
    catalogue: Iterable[Setting],
    query: str = "",
    theme: str | None = None,
    platforms: Collection[Platform] = (),
) -> Sequence[Setting]:
    """The settings in which every typed word begins a word, those first whose name has them; of one
    theme, and known to every one of the platforms.
    """
    typed = _words(query)
    ranked = []
    for place, one in enumerate(catalogue):
        if theme is not None and lower(one.theme) != lower(theme):
            continue
        if any(platform not in one.platforms for platform in platforms):
            continue
        rank = _rank(one, typed)
        if rank is not None:
            ranked.append((rank, place, one))
    return [one for _, _, one in sorted(ranked, key=lambda found: found[:2])]


#: Where a word is looked for, the nearest first.
_PLACES = (
    lambda one: one.name,
    lambda one: one.key,
    lambda one: f"{one.theme} {' '.join(one.choices.values())}",
    lambda one: one.says,
)


def _rank(setting: Setting, typed: Sequence[str]) -> int | None:
    """How far from the name the farthest typed word stands; None: one is nowhere."""
    words = [_words(place(setting)) for place in _PLACES]
    farthest = 0
    for one in typed:
        places = [n for n, there in enumerate(words) if any(w.startswith(one) for w in there)]
        if not places:
            return None
        farthest = max(farthest, places[0])
    return farthest


def _words(text: str) -> list[str]:
    """The words of a text without regard to case, at whatever stands between them."""
    return "".join(c if c.isalnum() else " " for c in lower(text)).split()
