"""What devices get: the catalogue, items, kits, setup sheets, checklists, and what is odd."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import ConfigDict, Field

from sortitor.core.kits.checklists import Checklist as Checklist
from sortitor.core.kits.documents import Given as Given
from sortitor.core.kits.documents import Kit as Kit
from sortitor.core.kits.items import Certificate
from sortitor.core.kits.items import Item as Item
from sortitor.core.kits.items import ItemKind as ItemKind
from sortitor.core.kits.lints import LintCode
from sortitor.core.kits.resolve import Giving, ItemVerdict, Word
from sortitor.core.kits.sheets import SetupSheet as SetupSheet
from sortitor.core.vocabulary import Ownership, Platform
from sortitor.schemas.base import Answer, Name, Request
from sortitor.schemas.documents import Kept


class CatalogueSetting(Answer):
    """One thing that can be set."""

    key: str
    name: str
    theme: str
    says: str = Field(description="What it does, in one sentence.")
    platforms: Mapping[Platform, str] = Field(
        description='Each with the least version that knows it; "": any.'
    )
    type: str = Field(description="`switch`, `number`, `choice`, `text`, `list` or `file`.")
    form: str = Field(description="What a value of it is, in words.")
    least: int | None
    most: int | None
    unit: str | None
    choices: Mapping[str, str] = Field(description="Value → its words.")


class ItemDetail(Item, Kept):
    """An item."""

    model_config = ConfigDict(extra="ignore")

    says: str = Field(description="What it is or sets, in a line.")
    for_platforms: Mapping[Platform, str] = Field(
        description="The platforms that it is for in the end; none: all."
    )
    hand_needed: bool = Field(description="Whether somebody must be at the device.")
    certificate: Certificate | None = Field(description="What a certificate says of itself.")


class KitDetail(Kit, Kept):
    """A kit."""

    model_config = ConfigDict(extra="ignore")


class SheetDetail(SetupSheet, Kept):
    """A setup sheet."""

    model_config = ConfigDict(extra="ignore")

    takes_away: list[str] = Field(description="What its choices take away, in sentences.")


class ChecklistDetail(Checklist, Kept):
    """A checklist."""

    model_config = ConfigDict(extra="ignore")

    in_order: list[str] = Field(description="Its items in the order in which they are done.")


class SheetExport(Answer):
    """A setup sheet as a source carries it, with the SHA-256 of its JSON (RFC 8785)."""

    sheet: dict[str, Any]
    digest: str


class Through(Answer):
    """What brings something, given with a word to a cohort or (null) to everyone."""

    kind: Giving
    id: int
    name: str
    cohort: str | None
    word: Word


class GotItem(Answer):
    """One item on a device."""

    id: int
    name: str
    kind: ItemKind
    version: str
    verdict: ItemVerdict
    through: Through
    beat: list[Through] = Field(description="Assignments that said something else of it.")
    beaten_by: str | None = Field(description="The item that wins where both set the same.")
    disagrees: bool = Field(description="Whether that item sets it otherwise.")
    needs_hand: bool


class GotDocument(Answer):
    """The setup sheet or the checklist of a device."""

    id: int
    name: str
    through: Through
    beat: list[Through]


class EffectiveKit(Answer):
    """All that a device gets."""

    subject: str
    revision: str = Field(description="Its digest: another one where anything of it is another.")
    lines: list[GotItem]
    sheet: GotDocument | None
    checklist: GotDocument | None


class ImaginedDevice(Request):
    """A device that is not there: in the cohorts that are named, and in those that it fits."""

    platform: Platform | None = None
    os_version: str | None = Field(default=None, max_length=50)
    ownership: Ownership | None = None
    maker: Name | None = None
    model: Name | None = None
    site: Name | None = None
    person: Name | None = Field(default=None, description="User name or mail.")
    cohorts: list[Name] = Field(default=[], max_length=50)


class BesideKit(Answer):
    """What every device gets beside what a device of one cohort does."""

    everyone: EffectiveKit
    cohort: EffectiveKit


class GettingThrough(Answer):
    """How many devices get an item through one assignment, or are kept from it."""

    through: Through
    devices: int


class Getting(Answer):
    """Who gets an item."""

    devices: dict[ItemVerdict, int] = Field(description="How many, by what becomes of it.")
    through: list[GettingThrough]
    filter: str = Field(description="The filter that lists the devices that get it.")


class KitLint(Answer):
    """Something that is forgotten or cannot be."""

    code: LintCode
    about: str
    words: str
    mend: str
    kind: Giving
    id: int
    cohorts: list[str]
