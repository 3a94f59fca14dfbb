"""Settings that an organisation adds to the catalogue."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from sortitor.core.documents import Name, NamedDocument
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.kits.catalogue import Setting, SettingKey, settings
from sortitor.core.kits.items import CustomPayload
from sortitor.core.vocabulary import Platform, SettingType

#: The most characters of a text, and the most entries of a list, where nobody says another number.
_USUAL = 500
_NEEDS = {
    SettingType.NUMBER: ("least", "most", "unit"),
    SettingType.CHOICE: ("choices",),
}


class OwnSetting(NamedDocument):
    """A setting that the catalogue lacks: what it is called here, what the platform calls it, and
    which values it takes.
    """

    key: Annotated[SettingKey, Field(max_length=60)] = Field(
        description="By which items name it: small letters, digits and hyphens."
    )
    theme: Name = Field(default="our own", description="Among which settings it stands.")
    says: Annotated[str, StringConstraints(min_length=1, max_length=300)] = Field(
        description="What it does, in one sentence."
    )
    sends: Annotated[str, StringConstraints(pattern=r"^[\x21-\x7e]{1,300}$")] = Field(
        description="What the platform calls it."
    )
    platforms: dict[Platform, str] = Field(
        min_length=1, description='Which platforms know it, each with the least version ("": any).'
    )
    type: SettingType = Field(default=SettingType.TEXT, description="What its value is.")
    least: int | None = Field(default=None, description="Of a number: the smallest.")
    most: int | None = Field(
        default=None, ge=0, description="Of a number the largest; of a text or list how many."
    )
    unit: Name | None = Field(default=None, description="Of a number: in what.")
    choices: dict[str, str] = Field(
        default_factory=dict, max_length=100, description="Of a choice: value → its words."
    )

    def check(self) -> None:
        """Raise BadInput for a key of the package, or a type without what it needs."""
        if self.key in settings():
            raise _wrong("key", f"{self.key!r} is in the catalogue already.", "Choose another.")
        if self.type is SettingType.FILE:
            raise _wrong("type", "A setting of your own is no file.", "Make an item of the file.")
        for name in _NEEDS.get(self.type, ()):
            if getattr(self, name) in (None, {}):
                words = f"A {self.type} needs {name}."
                raise _wrong(name, words, "Say it.")
        if self.least is not None and self.most is not None and self.least > self.most:
            raise _wrong("least", "The smallest is larger than the largest.", "Change them round.")

    def as_setting(self) -> Setting:
        """As the catalogue has it."""
        several = self.type in (SettingType.TEXT, SettingType.LIST)
        return Setting(
            key=self.key,
            name=self.name,
            theme=self.theme,
            says=self.says,
            platforms=self.platforms,
            type=self.type,
            least=self.least,
            most=self.most if self.most is not None or not several else _USUAL,
            unit=self.unit,
            choices=self.choices,
        )

    def sent(self, value: object) -> CustomPayload:
        """A value of it as a device is sent it."""
        if isinstance(value, bool):
            return CustomPayload(key=self.sends, type="truth", value=str(value).lower())
        if isinstance(value, int):
            return CustomPayload(key=self.sends, type="number", value=str(value))
        text = "\n".join(value) if isinstance(value, list | tuple) else str(value)
        return CustomPayload(key=self.sends, type="text", value=text)


def _wrong(field: str, words: str, remedy: str) -> BadInput:
    problem = FieldProblem(f"/{field}", "own_setting", words)
    return BadInput("own_setting", words, remedy, (problem,))
