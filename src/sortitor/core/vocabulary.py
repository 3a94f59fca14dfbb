"""The words of the product, as enums.

A value here is the word on the wire, in the database and on the page.
"""

from __future__ import annotations

from enum import StrEnum


class Stage(StrEnum):
    """Where a device stands in its life."""

    AWAITED = "awaited"
    PARKED = "parked"
    ACTIVE = "active"
    DORMANT = "dormant"
    RETIRED = "retired"


class Purpose(StrEnum):
    """What a token is for: the interface of scripts, an identity provider that pushes people and
    groups, or a calendar that shows what ends.
    """

    INTERFACE = "interface"
    PEOPLE = "people"
    CALENDAR = "calendar"


class EndKind(StrEnum):
    """What ends on a day that somebody has to know."""

    CREDENTIAL = "credential"
    PASS = "pass"
    HOLD = "hold"
    WARRANTY = "warranty"
    POLICY = "policy"
    LICENCE = "licence"


class HoldKind(StrEnum):
    """What a hold keeps out of sweeps."""

    DEVICES = "devices"
    PERSON = "person"
    COHORT = "cohort"


class HoldState(StrEnum):
    """How a hold stands on a day."""

    COMING = "coming"
    RUNNING = "running"
    OVER = "over"


class SourceKind(StrEnum):
    """What kind of system knows something beside Sortitor."""

    #: People, groups and perhaps devices, asked for by LDAP (RFC 4511).
    DIRECTORY = "directory"
    #: A supplier's list of the devices that were bought.
    REGISTRY = "registry"
    #: A file that some system puts out, handed over or fetched from an address.
    ROSTER = "roster"
    #: People and groups that an identity provider pushes by SCIM (RFC 7644).
    PUSH = "push"
    #: Whoever signs vouchers for licence seats, by public keys (RFC 7517).
    ISSUER = "issuer"


class Login(StrEnum):
    """By what the people of a directory sign in with its password."""

    USER_NAME = "user_name"
    MAIL = "mail"


class SourceState(StrEnum):
    """What is to be thought of what a source last said."""

    NEVER = "never"
    FRESH = "fresh"
    LATE = "late"
    FAILING = "failing"


class RunState(StrEnum):
    """What became of one run of a source. A braked one stopped to ask."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    BRAKED = "braked"
    CANCELLED = "cancelled"


class SecretKind(StrEnum):
    """What a source is opened with."""

    PASSWORD = "password"
    TOKEN = "token"
    #: A private key; what is public of it (its certificate) is shown.
    KEY = "key"
    #: A certificate with which a source is asked who it is.
    CERTIFICATE = "certificate"


class Gap(StrEnum):
    """How two systems disagree about a device."""

    #: The source should know it and does not.
    ABSENT = "absent"
    #: The source knows it and the fleet does not.
    UNKNOWN = "unknown"
    #: Retired here, and alive there.
    ALIVE = "alive"
    #: Both know it and say different things of it.
    DIFFERS = "differs"
    #: The source lists it more than once.
    TWICE = "twice"


class RegistryAct(StrEnum):
    """What a registry can be asked to do with devices."""

    ASSIGN = "assign"
    UNASSIGN = "unassign"
    RELEASE = "release"
    SET_SHEET = "set-sheet"
    CLEAR_SHEET = "clear-sheet"
    BRING_IN = "bring-in"


class Mend(StrEnum):
    """What closes a disagreement."""

    #: The fleet takes the source's word.
    TAKE_WORD = "take-word"
    #: What the source knows becomes an awaited device.
    TAKE_IN = "take-in"
    #: It is the device that resembles it: the source's number is noted on that one.
    SAME = "same"
    #: What the source does not know is retired here.
    RETIRE = "retire"
    #: The source is told, by its own means: what is retired is released, what is missing brought
    #: in.
    SEND = "send"


class GapState(StrEnum):
    """What was decided about a disagreement."""

    OPEN = "open"
    #: Carried out by hand or by the source's own means; the next run shows whether it is so.
    DONE = "done"
    ACCEPTED = "accepted"
    #: Nobody wants to hear of it until a day.
    IGNORED = "ignored"
    #: It is gone.
    CLOSED = "closed"


class Claim(StrEnum):
    """What became of the arrival of a device that is in use and did not show its credential."""

    OPEN = "open"
    GRANTED = "granted"
    DENIED = "denied"


class Platform(StrEnum):
    """The operating system family of a device."""

    ANDROID = "android"
    IOS = "ios"
    WINDOWS = "windows"
    MACOS = "macos"
    LINUX = "linux"

    @property
    def label(self) -> str:
        """How the platform is written in a sentence."""
        return _PLATFORM_LABELS[self]


_PLATFORM_LABELS = {
    Platform.ANDROID: "Android",
    Platform.IOS: "iOS",
    Platform.WINDOWS: "Windows",
    Platform.MACOS: "macOS",
    Platform.LINUX: "Linux",
}


class Ownership(StrEnum):
    """Whose a device is."""

    CORPORATE = "corporate"
    PERSONAL = "personal"
    PARTNER = "partner"
    UNKNOWN = "unknown"


class Basis(StrEnum):
    """Why a value is believed; a stronger basis is never overwritten by a weaker one."""

    INFERRED = "inferred"
    PASS = "pass"
    DECLARED = "declared"
    MANUAL = "manual"

    @property
    def strength(self) -> int:
        """Higher wins; equal strengths let the newer statement win."""
        return list(Basis).index(self)


class IdentifierKind(StrEnum):
    """What kind of number identifies the hardware."""

    SERIAL = "serial"
    IMEI = "imei"
    MEID = "meid"
    EID = "eid"
    MAC = "mac"
    UUID = "uuid"
    FINGERPRINT = "fingerprint"


class Verdict(StrEnum):
    """What would become of one row of a lot."""

    ADD = "add"
    CHANGE = "change"
    UNCHANGED = "unchanged"
    CONFLICT = "conflict"
    REJECT = "reject"
    #: A line of the file that is no row: a title, a total, a page number.
    NO_ROW = "no_row"


class Remedy(StrEnum):
    """What a person decided about a row."""

    #: The row is left out.
    SKIP = "skip"
    #: The line is a row, and its numbers are right as they stand.
    TAKE = "take"
    #: A retired device (or one reported missing or stolen) comes back into the fleet, awaited.
    TAKE_BACK = "take_back"
    #: The devices that the row joins become one; the older one in use stays.
    MERGE = "merge"


class Severity(StrEnum):
    """How much a note matters."""

    INFO = "info"
    WARN = "warn"
    ERROR = "error"


class LotStatus(StrEnum):
    """The life of a lot."""

    #: The file is taken, and a job looks through it.
    CHECKING = "checking"
    DRAFT = "draft"
    APPLIED = "applied"
    REVERTED = "reverted"
    DISCARDED = "discarded"


class JobState(StrEnum):
    """The life of a long piece of work."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class Outcome(StrEnum):
    """What the gate decided."""

    ADMITTED = "admitted"
    PARKED = "parked"
    REFUSED = "refused"
    #: Something is asked of the device or its person before it is decided.
    ASKED = "asked"


class Activation(StrEnum):
    """Who brings an arriving device into use."""

    PERSON = "person"
    COORDINATOR = "coordinator"
    #: A device of no one person, such as a display: it comes into use at once.
    SHARED = "shared"


class Returning(StrEnum):
    """What happens to a retired device that knocks."""

    READMIT = "readmit"
    PARK = "park"
    REFUSE = "refuse"


class SignInWay(StrEnum):
    """How the person of an arriving device must be proven."""

    NOBODY = "nobody"
    PASSCODE = "passcode"
    MAIL = "mail"
    DIRECTORY = "directory"


class Proof(StrEnum):
    """How somebody was proven to be the person of an arriving device, weakest first."""

    NONE = "none"
    #: The bearer was told the pass's passcode; it proves nobody in particular.
    PASSCODE = "passcode"
    #: The pass was made for one person.
    PASS = "pass"
    #: A code that was sent to the person's mail address; also a pass that was mailed to them.
    MAIL = "mail"
    DIRECTORY = "directory"
    #: The device is in use by the person, and showed its key.
    KEY = "key"

    @property
    def strength(self) -> int:
        """Higher is stronger."""
        return list(Proof).index(self)


class Need(StrEnum):
    """What an arriving device is asked before the gate decides."""

    PASSCODE = "passcode"
    SIGN_IN = "sign_in"
    OWNERSHIP = "ownership"
    TERMS = "terms"


class Speaker(StrEnum):
    """Who said something on the way in."""

    DEVICE = "device"
    PERSON = "person"
    SERVICE = "service"
    COORDINATOR = "coordinator"


class MailState(StrEnum):
    """The life of a mail."""

    WAITING = "waiting"
    SENT = "sent"
    FAILED = "failed"
    #: What it says was no longer so before it could be sent.
    DROPPED = "dropped"


class WayStage(StrEnum):
    """How far an arrival is."""

    ASKED = "asked"
    LAPSED = "lapsed"
    REFUSED = "refused"
    PARKED = "parked"
    SETTING_UP = "setting_up"
    FAILED = "failed"
    DONE = "done"


class Listed(StrEnum):
    """How a list of makers or models is meant."""

    ONLY = "only"
    ALL_BUT = "all_but"


class Parting(StrEnum):
    """What becomes of a device of somebody who leaves."""

    GIVE = "give"
    TAKE = "take"
    RETIRE = "retire"
    MISSING = "missing"


class Facet(StrEnum):
    """What a gate policy can state."""

    DOOR = "door"
    VERSIONS = "versions"
    MAKERS = "makers"
    MODELS = "models"
    OWNERSHIPS = "ownerships"
    DECLARED_ONLY = "declared_only"
    QUOTA = "quota"
    SIGN_IN = "sign_in"
    TERMS = "terms"
    RETURNING = "returning"


class Role(StrEnum):
    """What an account may do, least first; `core/access.py` says what each is granted."""

    VIEWER = "viewer"
    TECHNICIAN = "technician"
    COORDINATOR = "coordinator"
    ADMINISTRATOR = "administrator"


class ItemKind(StrEnum):
    """What an item is."""

    SETTING = "setting"
    CUSTOM = "custom"
    APP = "app"
    DOCUMENT = "document"
    NETWORK = "network"
    ACCOUNT = "account"
    CERTIFICATE = "certificate"
    SCRIPT = "script"
    FIRMWARE = "firmware"


class SettingType(StrEnum):
    """What a setting's value is."""

    SWITCH = "switch"
    NUMBER = "number"
    CHOICE = "choice"
    TEXT = "text"
    LIST = "list"
    FILE = "file"


class Security(StrEnum):
    """How a network is joined."""

    OPEN = "open"
    SECRET = "secret"
    CERTIFICATE = "certificate"
    PASSWORD = "password"


class Giving(StrEnum):
    """What can be given to a cohort or to everyone."""

    ITEM = "item"
    KIT = "kit"
    SHEET = "sheet"
    CHECKLIST = "checklist"


class GivenAs(StrEnum):
    """What an assignment says of its items, the strongest first."""

    EXCLUDED = "excluded"
    REQUIRED = "required"
    OFFERED = "offered"


class ItemVerdict(StrEnum):
    """What becomes of an item on a device."""

    REQUIRED = "required"
    OFFERED = "offered"
    EXCLUDED = "excluded"
    #: Another item holds what this one would set.
    BEATEN = "beaten"
    #: It is for another platform or version, or its condition does not hold.
    NOT_FOR = "not_for"


class ItemState(StrEnum):
    """How far an item is at a device."""

    WAITING = "waiting"
    WORKING = "working"
    DONE = "done"
    FAILED = "failed"
    NOT_FOR = "not_for"


class Expiry(StrEnum):
    """What happens when the time is over."""

    HOLD = "hold"
    LET_IN = "let_in"


class Reach(StrEnum):
    """How much of the device is looked after."""

    WHOLE = "whole"
    WORK_PART = "work_part"
    WITH_PERSONAL_PART = "with_personal_part"
    SHARED = "shared"
    ACCOUNTS_ONLY = "accounts_only"


class AccountType(StrEnum):
    """What the person may do at the device."""

    USUAL = "usual"
    ADMINISTRATOR = "administrator"
    GUEST = "guest"


class FirstStep(StrEnum):
    """A step of the first start that can be skipped."""

    ACCOUNT = "account"
    LOCATION = "location"
    RESTORE = "restore"
    FACE_AND_FINGER = "face_and_finger"
    PAYMENT = "payment"
    ASSISTANT = "assistant"
    DIAGNOSTICS = "diagnostics"
    LOOK = "look"
    LANGUAGE = "language"
    CODE = "code"
    TERMS = "terms"
    UPDATES = "updates"


class LintCode(StrEnum):
    """What is odd about items and kits."""

    NOT_ASSIGNED = "not_assigned"
    FOR_NO_DEVICE = "for_no_device"
    CONFLICT = "conflict"
    NEEDS_HAND = "needs_hand"
    EMPTY_COHORT = "empty_cohort"
    TO_NOBODY = "to_nobody"
    TOO_LARGE = "too_large"
    OPPOSITE = "opposite"
    AGAINST_GATE = "against_gate"


class PoolState(StrEnum):
    """Whether the seats suffice."""

    COVERED = "covered"
    SHORT = "short"
    #: Seats have ended, and still count for some days.
    GRACE = "grace"
    #: Seats have ended, and count no more.
    LAPSED = "lapsed"


class Term(StrEnum):
    """When the seats of vouchers end."""

    SHARED = "shared"
    EACH = "each"


class Shortage(StrEnum):
    """What becomes of a device that arrives where no seat is free."""

    ADMIT = "admit"
    PARK = "park"
    REFUSE = "refuse"


class Act(StrEnum):
    """How a voucher is used."""

    #: Its seats come to those that are there; all end together, later or sooner.
    TOP_UP = "top-up"
    #: Its seats take the place of those that are there, and last longer.
    ROLLOVER = "rollover"
    #: Its seats stand beside the others and have an end of their own.
    BESIDE = "beside"
