"""Setup sheets: the choices of a device's first start, and what each of them takes away."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated, Any

from pydantic import Field, StringConstraints

from sortitor.core.documents import Name
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.kits.documents import RankedDocument, check_given
from sortitor.core.naming.templates import parse
from sortitor.core.vocabulary import AccountType, FirstStep, Reach

#: What is gone with a step.
TAKEN_AWAY: dict[FirstStep, str] = {
    FirstStep.ACCOUNT: "Without the account step nothing can be restored from a backup, and"
    " nothing is bought from the shop.",
    FirstStep.LOCATION: "Without the location step the time zone is not found by itself.",
    FirstStep.RESTORE: "Without the restore step a person cannot bring a former device's"
    " content along.",
    FirstStep.FACE_AND_FINGER: "Without the face and finger step the device opens by its code"
    " alone.",
    FirstStep.PAYMENT: "Without the payment step nobody pays by holding the device to a till.",
    FirstStep.LANGUAGE: "Without the language step the device speaks the language of this sheet.",
    FirstStep.CODE: "Without the code step the device stays open until a setting asks for a code.",
    FirstStep.TERMS: "Without the terms step nobody sees the maker’s terms; you accept them"
    " for all.",
    FirstStep.UPDATES: "Without the updates step the device starts with the system that it"
    " came with.",
}

_Language = Annotated[str, StringConstraints(pattern=r"^[A-Za-z]{2,3}(-[A-Za-z0-9]{2,8})*$")]


class SetupSheet(RankedDocument):
    """The choices of the first start."""

    reach: Reach = Field(default=Reach.WHOLE, description="How much of the device is looked after.")
    account: AccountType = Field(
        default=AccountType.USUAL, description="What the person may do at the device."
    )
    local_administrator: Name | None = Field(
        default=None, description="Its user name; each device has a password of its own."
    )
    skipped: tuple[FirstStep, ...] = Field(default=(), description="Steps that are not shown.")
    language: _Language | None = Field(
        default=None, description="BCP 47; null: that of the device, or asked."
    )
    region: Annotated[str, StringConstraints(pattern="^[A-Z]{2}$")] | None = Field(
        default=None, description="ISO 3166; null: that of the device, or asked."
    )
    keyboard: Name | None = Field(
        default=None, description="Its layout; null: that of the device, or asked."
    )
    joins: Name | None = Field(default=None, description="The item of the network that it joins.")
    locked: bool = Field(default=True, description="Whether nobody at the device takes it out.")
    pairs_with_computers: bool = Field(
        default=True, description="Whether other computers can be paired with it by cable."
    )
    name_template: Name | None = Field(
        default=None,
        description="How the device calls itself before it arrives; null: as its maker has it.",
    )

    def check(self) -> None:
        """Raise BadInput for choices that cannot be together."""
        check_given(self.given, alone=True)
        if len(set(self.skipped)) < len(self.skipped):
            raise _wrong("/skipped", "A step is skipped twice.", "Name it once.")
        whole = (Reach.WHOLE, Reach.SHARED)
        if self.local_administrator and self.reach not in whole:
            words = "A local administrator needs the whole device."
            raise _wrong("/local_administrator", words, "Choose another reach, or leave it out.")
        if self.local_administrator and not _USER.fullmatch(self.local_administrator):
            words = f"{self.local_administrator!r} is no user name of a device."
            raise _wrong("/local_administrator", words, "Use small letters, digits, - and _.")
        if self.name_template is not None:
            _check_template(self.name_template)
        if self.locked and self.reach in (Reach.WORK_PART, Reach.ACCOUNTS_ONLY):
            words = "Whoever owns the device can always take the work part out."
            raise _wrong("/locked", words, "Leave the lock off, or choose another reach.")
        if FirstStep.LANGUAGE in self.skipped and self.language is None:
            words = "The language step is skipped, and no language is chosen."
            raise _wrong("/language", words, "Choose one, or show the step.")

    def consequences(self) -> Iterator[str]:
        """What the choices take away, in sentences."""
        for step in self.skipped:
            if step in TAKEN_AWAY:
                yield TAKEN_AWAY[step]
        if self.account is AccountType.ADMINISTRATOR:
            yield "The person can change whatever a kit sets."
        if self.reach is Reach.SHARED:
            yield "Whoever leaves leaves nothing; what is not stored elsewhere is gone."
        if not self.pairs_with_computers:
            yield "A device that does not start cannot be brought back over a cable."

    def exported(self) -> dict[str, Any]:
        """As a source carries it: without whose it is here."""
        return self.model_dump(mode="json", exclude={*_HERE})

    @classmethod
    def exported_schema(cls) -> dict[str, Any]:
        """The JSON Schema (2020-12) of what is exported."""
        schema = cls.model_json_schema()
        kept = {name: one for name, one in schema["properties"].items() if name not in _HERE}
        defs = {name: one for name, one in schema["$defs"].items() if not name.startswith("Given")}
        return {**schema, "properties": kept, "$defs": defs, "$schema": _DRAFT}


#: What a sheet is here and nowhere else.
_HERE = ("given", "position", "note")
_DRAFT = "https://json-schema.org/draft/2020-12/schema"
_USER = re.compile(r"[a-z_][a-z0-9_-]{0,30}")


def _check_template(pattern: str) -> None:
    """Raise BadInput for a template of which nobody but the service could make a name."""
    with_counter = next((piece for piece in parse(pattern) if piece.field == "n"), None)
    if with_counter is not None:
        words = "Devices that call themselves cannot count."
        raise _wrong("/name_template", words, "Leave {n} out, or name them by the naming.")


def _wrong(place: str, words: str, remedy: str) -> BadInput:
    return BadInput("sheet_choice", words, remedy, (FieldProblem(place, "sheet_choice", words),))
