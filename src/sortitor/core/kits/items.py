"""Items: what a kit is made of, and what is wrong with one before any device sees it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import date
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import Field, StringConstraints

from sortitor.core import versions
from sortitor.core.documents import Document, FilterText, Name, NamedDocument, Note
from sortitor.core.errors import BadInput, FieldProblem
from sortitor.core.filters import (
    Comparison,
    Filter,
    Joined,
    Not,
    all_of,
    as_text,
    attributes,
    moving,
    one_of,
    parse,
    trimmed,
)
from sortitor.core.kits import resolve
from sortitor.core.kits.catalogue import Setting
from sortitor.core.kits.documents import Given, check_given
from sortitor.core.previews import digest_of
from sortitor.core.vocabulary import ItemKind, Platform, Security, SettingType

if TYPE_CHECKING:
    from cryptography import x509

MOST_BYTES = 2 * 1024**3
_MOST_SCRIPT = 200_000

#: SHA-256 in hex.
DIGEST = "^[0-9a-f]{64}$"
Digest = Annotated[str, StringConstraints(pattern=DIGEST)]
Address = Annotated[str, StringConstraints(pattern=r"^https://[^\s]+$", max_length=2_000)]
Host = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$")]


class Payload(Document):
    """What an item brings."""

    @property
    def holds(self) -> str | None:
        """What only one item can hold on a device; None: nothing."""
        return None

    @property
    def file(self) -> tuple[str, int] | None:
        """The SHA-256 and the bytes of a file that is kept here; None: it brings none."""
        return None

    @property
    def needs_hand(self) -> bool:
        """Whether somebody must do something at the device."""
        return False


class SettingPayload(Payload):
    """A setting of the catalogue with its value."""

    kind: Literal[ItemKind.SETTING] = ItemKind.SETTING
    setting: str = Field(max_length=60, description="The setting's key in the catalogue.")
    value: Any = Field(description="What it is set to.")

    @property
    def holds(self) -> str:
        """The setting."""
        return f"setting {self.setting}"


class CustomPayload(Payload):
    """A setting that the catalogue lacks, as the platform calls it."""

    kind: Literal[ItemKind.CUSTOM] = ItemKind.CUSTOM
    key: Annotated[str, StringConstraints(pattern=r"^[\x21-\x7e]{1,300}$")] = Field(
        description="What the platform calls it."
    )
    type: Literal["truth", "number", "text", "xml", "json"]
    value: str = Field(max_length=100_000)

    @property
    def holds(self) -> str:
        """The key."""
        return f"custom {self.key}"

    def check(self) -> None:
        """Raise BadInput where the value is not of its type."""
        if self.type == "truth" and self.value not in ("true", "false"):
            raise _wrong("/payload/value", f"{self.value!r} is neither true nor false.", "Say one.")
        if self.type == "number" and not re.fullmatch(r"-?[0-9]{1,18}", self.value):
            raise _wrong("/payload/value", f"{self.value!r} is no whole number.", "Write digits.")


class FilePayload(Payload):
    """A file that is kept here, or one that lies elsewhere and has this digest."""

    digest: Digest = Field(description="SHA-256 of the bytes, in hex.")
    size: int = Field(ge=1, le=MOST_BYTES, description="Bytes.")
    address: Address | None = Field(
        default=None, description="Where it lies (https); null: it is kept here."
    )

    @property
    def file(self) -> tuple[str, int] | None:
        """Its own, unless it lies elsewhere."""
        return None if self.address else (self.digest, self.size)


class AppPayload(FilePayload):
    """An app as a file."""

    kind: Literal[ItemKind.APP] = ItemKind.APP
    identifier: Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9._-]{1,200}$")] = Field(
        description="What the platform calls the app, such as no.wrenmoor.tickets."
    )

    @property
    def holds(self) -> str:
        """The app: of two versions one is installed."""
        return f"app {self.identifier}"


class DocumentPayload(FilePayload):
    """A document to read."""

    kind: Literal[ItemKind.DOCUMENT] = ItemKind.DOCUMENT
    file_name: Name


class NetworkPayload(Payload):
    """A Wi-Fi network."""

    kind: Literal[ItemKind.NETWORK] = ItemKind.NETWORK
    ssid: Annotated[str, StringConstraints(min_length=1, max_length=32)]
    security: Security
    secret: str | None = Field(default=None, description="The shared secret, 8 to 63 characters.")
    hidden: bool = False
    trusted: bool = Field(
        default=False, description="Whether the server's certificate comes with another item."
    )

    @property
    def holds(self) -> str:
        """The network."""
        return f"network {self.ssid}"

    @property
    def needs_hand(self) -> bool:
        """Somebody types a password, or decides to trust a server."""
        asks = self.security is Security.PASSWORD
        return asks or (self.security is Security.CERTIFICATE and not self.trusted)

    def check(self) -> None:
        """Raise BadInput for a secret that is none, or stands where none belongs; and for a name
        that is longer than 32 bytes (IEEE 802.11).
        """
        if len(self.ssid.encode()) > 32:
            raise _wrong("/payload/ssid", "The name is over 32 bytes.", "Choose a shorter one.")
        if (self.security is Security.SECRET) != (self.secret is not None):
            words = "A shared secret goes with a network that has one, and with no other."
            raise _wrong("/payload/secret", words, "Give it, or choose how it is joined.")
        if self.secret is not None and not 8 <= len(self.secret.encode()) <= 63:
            words = "The shared secret is not 8 to 63 bytes long."
            raise _wrong("/payload/secret", words, "Look it up at the network.")


class AccountPayload(Payload):
    """A mail or calendar account of the device's person."""

    kind: Literal[ItemKind.ACCOUNT] = ItemKind.ACCOUNT
    service: Literal["mail", "calendar", "contacts"]
    server: Host
    port: int = Field(ge=1, le=65_535)
    tls: bool = True
    signs_in_by: Literal["user_name", "mail"] = "mail"

    @property
    def needs_hand(self) -> bool:
        """The person types a password."""
        return True


class CertificatePayload(Payload):
    """A certificate that devices trust."""

    kind: Literal[ItemKind.CERTIFICATE] = ItemKind.CERTIFICATE
    pem: str = Field(max_length=50_000, description="One certificate as PEM (RFC 7468).")

    def read(self) -> Certificate:
        """Its names and its end. Raises BadInput for what is none."""
        if "PRIVATE KEY" in self.pem:
            words = "This holds a private key, which belongs to nobody but its owner."
            raise _wrong("/payload/pem", words, "Give the certificate alone.")
        # Where only the client is installed, nothing is there that reads certificates.
        from cryptography import x509

        try:
            [found] = x509.load_pem_x509_certificates(self.pem.encode())
        except ValueError as error:
            words = "This is not one certificate as PEM."
            raise _wrong("/payload/pem", words, "Export it as PEM, one by itself.") from error
        return Certificate.of(found)

    def check(self) -> None:
        """Raise BadInput for what is no certificate."""
        self.read()


class Certificate(Document):
    """What a certificate says of itself."""

    name: str
    issuer: str
    begins_on: date
    ends_on: date

    @classmethod
    def of(cls, found: x509.Certificate) -> Certificate:
        """Read off the certificate."""
        return cls(
            name=_name_in(found.subject),
            issuer=_name_in(found.issuer),
            begins_on=found.not_valid_before_utc.date(),
            ends_on=found.not_valid_after_utc.date(),
        )


def _name_in(name: x509.Name) -> str:
    """The common name, else all of it (RFC 4514)."""
    from cryptography.x509.oid import NameOID

    common = name.get_attributes_for_oid(NameOID.COMMON_NAME)
    return str(common[0].value) if common else name.rfc4514_string()


class ScriptPayload(Payload):
    """A script that runs once for each version."""

    kind: Literal[ItemKind.SCRIPT] = ItemKind.SCRIPT
    platform: Platform
    text: str = Field(min_length=1, max_length=_MOST_SCRIPT)

    def check(self) -> None:
        """Raise BadInput for a script that cannot run where it is for."""
        if self.platform in (Platform.IOS, Platform.ANDROID):
            words = f"{self.platform.label} runs no scripts."
            raise _wrong("/payload/platform", words, "Choose Windows, macOS or Linux.")
        first = self.text.lstrip("\ufeff").splitlines()[0] if self.text.strip() else ""
        if not first:
            raise _wrong("/payload/text", "The script is empty.", "Give its text.")
        if self.platform is Platform.WINDOWS and first.startswith("#!/"):
            words = "It begins as a script for macOS or Linux does."
            raise _wrong("/payload/text", words, "Choose its platform.")


class FirmwarePayload(Payload):
    """A wanted version of the system; devices below it are listed."""

    kind: Literal[ItemKind.FIRMWARE] = ItemKind.FIRMWARE
    wanted: Annotated[str, StringConstraints(pattern=r"^[0-9]{1,6}(\.[0-9]{1,6}){0,7}$")]

    @property
    def holds(self) -> str:
        """The system."""
        return "firmware"


AnyPayload = Annotated[
    SettingPayload
    | CustomPayload
    | AppPayload
    | DocumentPayload
    | NetworkPayload
    | AccountPayload
    | CertificatePayload
    | ScriptPayload
    | FirmwarePayload,
    Field(discriminator="kind"),
]


class Item(NamedDocument):
    """Something that a device can be given."""

    payload: AnyPayload
    platforms: dict[Platform, str] = Field(
        default_factory=dict,
        description='Which platforms it is for, each with the least version ("": any); empty: all.',
    )
    applies_when: FilterText = Field(
        default=None,
        max_length=3_000,
        description="For which devices, in the filter language; empty: all.",
    )
    version: Annotated[str, StringConstraints(pattern=r"^[0-9A-Za-z.+_-]{1,50}$")] = Field(
        default="1", description="Its version; another one is brought to every device again."
    )
    by_hand: bool = Field(
        default=False, description="Whether somebody must do something at the device for it."
    )
    reboots: bool = Field(default=False, description="Whether the device restarts for it.")
    given: tuple[Given, ...] = Field(
        default=(), max_length=200, description="To whom it is given by itself, in no kit."
    )
    note: Note = Field(default=None, description="What it is for.")

    def check(self) -> None:
        """Raise BadInput for a filter, versions or a payload that cannot be."""
        if self.applies_when:
            _check_condition(self.applies_when)
        check_given(self.given)
        for platform, least in self.platforms.items():
            if least and not versions.is_version(least):
                words = f"{least!r} is no version of {platform.label}."
                raise _wrong(f"/platforms/{platform}", words, "Write it as 12 or 12.1.")
        self.payload.check()
        script = self.payload
        if isinstance(script, ScriptPayload) and {*self.platforms} - {script.platform}:
            words = f"A script for {script.platform.label} is no other platform's."
            raise _wrong("/platforms", words, "Make one item for each platform.")

    def check_by(self, catalogue: Mapping[str, Setting], today: date) -> None:
        """Raise BadInput for a setting that there is not, or a value that it does not take, or a
        certificate that has ended.
        """
        payload = self.payload
        if isinstance(payload, SettingPayload):
            setting = catalogue.get(payload.setting)
            if setting is None:
                words = f"There is no setting {payload.setting!r}."
                raise _wrong("/payload/setting", words, "Look it up in the catalogue.")
            setting.checked(payload.value)
            unknown = [p.label for p in self.platforms if p not in setting.platforms]
            if unknown:
                words = f"{setting.name} is not known to {', '.join(unknown)}."
                raise _wrong("/platforms", words, "Take these platforms out.")
        if isinstance(payload, CertificatePayload):
            found = payload.read()
            if found.ends_on < today:
                words = f"The certificate of {found.name} ended on {found.ends_on}."
                raise _wrong("/payload/pem", words, "Give the one that came after it.")

    def files(self, catalogue: Mapping[str, Setting]) -> dict[str, int | None]:
        """The files that must be kept here for it: SHA-256 in hex → bytes, where these are said."""
        payload = self.payload
        if isinstance(payload, SettingPayload):
            setting = catalogue.get(payload.setting)
            is_file = setting is not None and setting.type is SettingType.FILE
            return {str(payload.value): None} if is_file else {}
        return dict([payload.file]) if payload.file else {}

    @property
    def needs_hand(self) -> bool:
        """Whether somebody must be at the device."""
        return self.by_hand or self.payload.needs_hand

    def fitting(self, catalogue: Mapping[str, Setting]) -> dict[Platform, str]:
        """The platforms that it is for, each with the least version; none: all. A setting is for
        those that know it, a script for its own.
        """
        payload, platforms = self.payload, dict(self.platforms)
        if isinstance(payload, SettingPayload) and payload.setting in catalogue:
            known = catalogue[payload.setting].platforms
            chosen = platforms or dict.fromkeys(known, "")
            platforms = {p: _later(known[p], v) for p, v in chosen.items() if p in known}
        elif isinstance(payload, ScriptPayload):
            platforms = platforms or {payload.platform: ""}
        return platforms

    def condition(self, catalogue: Mapping[str, Setting]) -> str | None:
        """For which devices it is, as one filter; None: for all. A version that nobody stated is
        new enough.
        """
        platforms = self.fitting(catalogue)
        each = tuple(_on(platform, least) for platform, least in sorted(platforms.items()))
        by_platform = each[0] if len(each) == 1 else Joined("or", each) if each else None
        by_device = parse(self.applies_when) if self.applies_when else None
        if by_platform is None and by_device is None:
            return None
        parts = [part for part in (by_platform, by_device) if part is not None]
        return as_text(all_of(*parts))

    def resolved(self, number: int, catalogue: Mapping[str, Setting]) -> resolve.Item:
        """As it is weighed against others."""
        return resolve.Item(
            id=number,
            revision=self.content,
            condition=self.condition(catalogue),
            holds=self.payload.holds,
            value=self.payload.model_dump(mode="json", exclude={"kind"}),
        )

    @property
    def content(self) -> str:
        """What devices are sent of it, as a digest."""
        sent = ("name", "version", "payload", "by_hand", "reboots")
        return digest_of(self.model_dump(mode="json", include={*sent}))


def _on(platform: Platform, least: str) -> Filter:
    """On this platform, from a version on."""
    there = one_of("platform", [platform])
    if not least:
        return there
    return all_of(there, Not(Comparison("osVersion", "lt", trimmed(least), f'"{least}"')))


def _check_condition(text: str) -> None:
    """Raise BadInput for a filter that cannot say what a device gets: that is worked out when the
    device changes, so the mere passing of time must not change it.
    """
    found = parse(text)
    if moving(found):
        words = "What a device gets cannot depend on how long ago something was."
        raise _wrong("/applies_when", words, "Say it by what changes with the device itself.")
    if "cohorts" in attributes(found):
        words = "The condition speaks of a cohort."
        raise _wrong("/applies_when", words, "Give the item to that cohort instead.")


def _later(one: str, other: str) -> str:
    """The later of two least versions; "" is any."""
    if not one or not other:
        return one or other
    return other if versions.below(one, other) else one


def _wrong(place: str, words: str, remedy: str) -> BadInput:
    code = "item_" + place.rsplit("/", 1)[-1]
    return BadInput(code, words, remedy, (FieldProblem(place, code, words),))
