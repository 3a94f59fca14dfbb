"""What devices get: the catalogue, items, kits, setup sheets, checklists, and what is odd."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from pydantic import ConfigDict, Field, SecretStr, StringConstraints

from sortitor.core.kits.checklists import Checklist as Checklist
from sortitor.core.kits.documents import Given as Given
from sortitor.core.kits.documents import Kit as Kit
from sortitor.core.kits.items import DIGEST as DIGEST
from sortitor.core.kits.items import AccountPayload as AccountPayload
from sortitor.core.kits.items import AnyPayload, Certificate
from sortitor.core.kits.items import Item as Item
from sortitor.core.kits.own_settings import OwnSetting as OwnSetting
from sortitor.core.kits.sheets import SetupSheet as SetupSheet
from sortitor.core.vocabulary import (
    Expiry,
    GivenAs,
    Giving,
    ItemState,
    ItemVerdict,
    LintCode,
    Ownership,
    Platform,
)
from sortitor.core.vocabulary import ItemKind as ItemKind
from sortitor.schemas.base import Answer, Apply, Name, Request, SecretAnswer, Time
from sortitor.schemas.documents import Kept
from sortitor.schemas.selection import Selection


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


class OwnSettingDetail(OwnSetting, Kept):
    """A setting that the organisation added."""

    model_config = ConfigDict(extra="ignore")


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
    form: dict[str, Any] = Field(description="The JSON Schema (2020-12) of a sheet.")


class NetworkCode(SecretAnswer):
    """What a phone's camera reads to join a network, with its secret."""

    text: str = Field(description="In the common `WIFI:` form.")
    svg: str = Field(description="The same as a QR code (ISO/IEC 18004), an image in SVG.")


class Through(Answer):
    """What brings something, given with a word to a cohort or (null) to everyone."""

    kind: Giving
    id: int
    name: str
    cohort: str | None
    word: GivenAs


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
    administrator: str | None = Field(
        description="The user name of the sheet’s local administrator."
    )


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
    cohorts: list[str] = Field(description="The cohorts that it concerns.")


# ---- what devices are sent, and what they tell


class Wait(Request):
    """A device that waits to be woken."""

    seconds: int = Field(default=60, ge=1, le=300, description="For how long at most.")


class Waited(Answer):
    """How the wait ended."""

    woken: bool = Field(description="Whether the device has to look now.")


class AgentItem(Answer):
    """An item as a device is sent it."""

    id: int
    revision: str = Field(description="Of its content; reports name it.")
    word: GivenAs
    name: str
    version: str
    needs_hand: bool
    reboots: bool
    payload: AnyPayload = Field(description="With its secrets in clear.")


class AgentChecklist(Answer):
    """What must be done before the device is handed over."""

    items: list[int] = Field(description="Numbers of items, in the order in which they are done.")
    limit_minutes: int
    every_start: bool
    on_expiry: Expiry
    message: str | None
    logs: bool = Field(description="Whether logs are to come along when an item fails.")


class LocalAdministrator(Answer):
    """The account by which somebody at the device can mend it."""

    user: str
    password: str


class AdministratorPassword(SecretAnswer):
    """The password of a device's local administrator, shown for this look."""

    user: str
    password: str
    former: str | None = Field(
        description="The one before, which holds where the device has not changed it yet."
    )


class AgentKit(SecretAnswer):
    """All that a device gets."""

    revision: str = Field(description="The ETag of the next fetch.")
    items: list[AgentItem]
    sheet: dict[str, Any] | None = Field(description="The choices of the first start.")
    administrator: LocalAdministrator | None = Field(
        description="The sheet’s local administrator, with the device’s own password."
    )
    checklist: AgentChecklist | None


_Line = Annotated[str, StringConstraints(max_length=500, strip_whitespace=True)]


class AgentReport(Request):
    """How far a device is with one item."""

    item: int = Field(ge=1, le=2**63 - 1, description="Its number.")
    revision: Annotated[str, StringConstraints(pattern="^[0-9a-f]{64}$")]
    state: ItemState
    code: Annotated[str, StringConstraints(pattern=r"^[a-z0-9_.-]{1,60}$")] | None = Field(
        default=None, description="Of a failure, a word for programs."
    )
    words: _Line | None = Field(default=None, description="Of a failure, what happened.")
    log: str | None = Field(default=None, max_length=65_536, description="What the device logged.")


class AgentReports(Request):
    """How far a device is."""

    reports: list[AgentReport] = Field(min_length=1, max_length=500)


# ---- who has what


class ItemFailure(Answer):
    """Devices on which an item failed for the same reason."""

    code: str | None
    devices: int
    words: str | None = Field(description="What one of them said.")


class ItemTimes(Answer):
    """How long an item takes, of what the fleet told."""

    item_id: int
    devices: int
    median_seconds: float
    p95_seconds: float = Field(description="All but a twentieth need no longer.")


class ItemStates(Answer):
    """How far the devices that get an item are with it."""

    states: dict[ItemState, int]
    failures: list[ItemFailure]
    times: ItemTimes | None


class DeviceReport(Answer):
    """What a device told of one item as it is now."""

    item_id: int
    state: ItemState
    code: str | None
    words: str | None
    at: Time
    has_log: bool


class ItemLog(Answer):
    """What a device sent along when an item failed."""

    log: str | None


class Retry(Request):
    """An item that is to be tried again on those of the devices on which it failed."""

    item: Name = Field(description="Its number or its name.")
    selection: Selection


class RetryApply(Apply, Retry):
    """As previewed."""


class AccountTried(Request):
    """An account, with the name and the password of somebody who has one. They are not kept."""

    account: AccountPayload
    user: Annotated[str, StringConstraints(min_length=1, max_length=320)]
    password: Annotated[SecretStr, Field(min_length=1, max_length=1_000)]


class AccountTrial(Answer):
    """Whether signing in went well."""

    ok: bool
    words: str
    remedy: str


class Handing(Request):
    """A setup sheet for chosen devices, or (`clear`) by hand no longer."""

    sheet: Name = Field(description="Its name or number.")
    selection: Selection
    clear: bool = False


class HandingApply(Apply, Handing):
    """As previewed."""


class Push(Request):
    """Devices that are to look now."""

    selection: Selection


class PushApply(Apply, Push):
    """As previewed."""
