"""The words for what the service knows, told once: the console and the terminal show them as they
are.
"""

from __future__ import annotations

from enum import StrEnum

from sortitor.core.notes import CATALOGUE, DOUBTS
from sortitor.core.vocabulary import (
    AccountType,
    Act,
    Activation,
    EndKind,
    Expiry,
    Facet,
    FirstStep,
    Gap,
    GapState,
    GivenAs,
    Giving,
    HoldKind,
    HoldState,
    ItemKind,
    ItemState,
    ItemVerdict,
    Listed,
    Login,
    LotStatus,
    Mend,
    Need,
    Outcome,
    Ownership,
    Parting,
    Platform,
    PoolState,
    Purpose,
    Reach,
    RegistryAct,
    Remedy,
    Returning,
    Role,
    SecretKind,
    Security,
    SettingType,
    Shortage,
    SignInWay,
    SourceKind,
    Stage,
    Term,
    Verdict,
    WayStage,
)

#: From so many bytes on, a file is checked as a job that can be watched and stopped.
JOB_BYTES = 2_000_000
#: From so many rows on, a lot is applied or reverted as a job.
JOB_ROWS = 20_000

#: Word on the wire → how it is said, for each kind of words.
LABELS: dict[type[StrEnum], dict[str, str]] = {
    Platform: {platform.value: platform.label for platform in Platform},
    Stage: {
        Stage.AWAITED: "awaited",
        Stage.PARKED: "parked",
        Stage.ACTIVE: "active",
        Stage.DORMANT: "dormant",
        Stage.RETIRED: "retired",
    },
    Ownership: {
        Ownership.CORPORATE: "corporate",
        Ownership.PERSONAL: "personal",
        Ownership.PARTNER: "partner's",
        Ownership.UNKNOWN: "not known",
    },
    ItemKind: {
        ItemKind.SETTING: "setting",
        ItemKind.CUSTOM: "setting of your own",
        ItemKind.APP: "app",
        ItemKind.DOCUMENT: "document",
        ItemKind.NETWORK: "network",
        ItemKind.ACCOUNT: "account",
        ItemKind.CERTIFICATE: "certificate",
        ItemKind.SCRIPT: "script",
        ItemKind.FIRMWARE: "system version",
    },
    SettingType: {
        SettingType.SWITCH: "on or off",
        SettingType.NUMBER: "a number",
        SettingType.CHOICE: "one of some choices",
        SettingType.TEXT: "a text",
        SettingType.LIST: "a list",
        SettingType.FILE: "a file",
    },
    GivenAs: {
        GivenAs.REQUIRED: "required",
        GivenAs.OFFERED: "offered",
        GivenAs.EXCLUDED: "excluded",
    },
    ItemVerdict: {
        ItemVerdict.REQUIRED: "required",
        ItemVerdict.OFFERED: "offered",
        ItemVerdict.EXCLUDED: "excluded",
        ItemVerdict.BEATEN: "beaten by another item",
        ItemVerdict.NOT_FOR: "not for this device",
    },
    Giving: {
        Giving.ITEM: "item",
        Giving.KIT: "kit",
        Giving.SHEET: "setup sheet",
        Giving.CHECKLIST: "checklist",
    },
    ItemState: {
        ItemState.WAITING: "waiting",
        ItemState.WORKING: "being worked on",
        ItemState.DONE: "done",
        ItemState.FAILED: "failed",
        ItemState.NOT_FOR: "not for this device",
    },
    Security: {
        Security.OPEN: "open",
        Security.SECRET: "with a shared secret",
        Security.CERTIFICATE: "with certificates",
        Security.PASSWORD: "with the person’s password",
    },
    Expiry: {
        Expiry.HOLD: "hold the device until somebody looks",
        Expiry.LET_IN: "hand it over anyway",
    },
    Reach: {
        Reach.WHOLE: "the whole device",
        Reach.WORK_PART: "work part only",
        Reach.WITH_PERSONAL_PART: "whole, with a personal part",
        Reach.SHARED: "shared by many",
        Reach.ACCOUNTS_ONLY: "accounts only",
    },
    AccountType: {
        AccountType.USUAL: "usual user",
        AccountType.ADMINISTRATOR: "administrator",
        AccountType.GUEST: "guest",
    },
    FirstStep: {
        FirstStep.ACCOUNT: "account",
        FirstStep.LOCATION: "location",
        FirstStep.RESTORE: "restore from a backup",
        FirstStep.FACE_AND_FINGER: "face and finger",
        FirstStep.PAYMENT: "payment",
        FirstStep.ASSISTANT: "assistant",
        FirstStep.DIAGNOSTICS: "diagnostics",
        FirstStep.LOOK: "look",
        FirstStep.LANGUAGE: "language",
        FirstStep.CODE: "code",
        FirstStep.TERMS: "terms",
        FirstStep.UPDATES: "updates",
    },
    Verdict: {
        Verdict.ADD: "add",
        Verdict.CHANGE: "change",
        Verdict.UNCHANGED: "unchanged",
        Verdict.CONFLICT: "conflict",
        Verdict.REJECT: "reject",
        Verdict.NO_ROW: "no row",
    },
    Remedy: {
        Remedy.SKIP: "leave the row out",
        Remedy.TAKE: "take the row as it stands",
        Remedy.TAKE_BACK: "take the device back into the fleet",
        Remedy.MERGE: "make the devices one",
    },
    LotStatus: {
        LotStatus.CHECKING: "being checked",
        LotStatus.DRAFT: "draft",
        LotStatus.APPLIED: "applied",
        LotStatus.REVERTED: "reverted",
        LotStatus.DISCARDED: "discarded",
    },
    Outcome: {
        Outcome.ADMITTED: "admitted",
        Outcome.PARKED: "parked",
        Outcome.REFUSED: "refused",
        Outcome.ASKED: "asked",
    },
    Activation: {
        Activation.PERSON: "as soon as their person is known",
        Activation.COORDINATOR: "when a coordinator says so",
        Activation.SHARED: "at once, as shared devices of nobody",
    },
    Returning: {
        Returning.READMIT: "let back in",
        Returning.PARK: "parked until a coordinator says so",
        Returning.REFUSE: "refused",
    },
    Parting: {
        Parting.GIVE: "given to somebody else",
        Parting.TAKE: "taken back, used by nobody",
        Parting.RETIRE: "retired",
        Parting.MISSING: "reported missing",
    },
    Facet: {
        Facet.DOOR: "door",
        Facet.VERSIONS: "OS version",
        Facet.MAKERS: "makers",
        Facet.MODELS: "models",
        Facet.OWNERSHIPS: "ownership",
        Facet.DECLARED_ONLY: "undeclared devices",
        Facet.QUOTA: "devices per person",
        Facet.SIGN_IN: "sign-in",
        Facet.TERMS: "terms",
        Facet.RETURNING: "returning devices",
    },
    SignInWay: {
        SignInWay.NOBODY: "not asked for",
        SignInWay.PASSCODE: "a passcode beside the code",
        SignInWay.MAIL: "a code sent to the person's mail address",
        SignInWay.DIRECTORY: "the directory's password",
    },
    Need: {
        Need.PASSCODE: "the passcode",
        Need.SIGN_IN: "the person's sign-in",
        Need.OWNERSHIP: "whose the device is",
        Need.TERMS: "the terms",
    },
    WayStage: {
        WayStage.ASKED: "waits for the person",
        WayStage.LAPSED: "gave up",
        WayStage.REFUSED: "refused",
        WayStage.PARKED: "waits for a coordinator",
        WayStage.SETTING_UP: "being set up",
        WayStage.FAILED: "set-up failed",
        WayStage.DONE: "ready",
    },
    Listed: {
        Listed.ONLY: "only these",
        Listed.ALL_BUT: "all but these",
    },
    HoldKind: {
        HoldKind.DEVICES: "devices",
        HoldKind.PERSON: "a person's devices",
        HoldKind.COHORT: "a cohort",
    },
    HoldState: {
        HoldState.COMING: "to come",
        HoldState.RUNNING: "holds",
        HoldState.OVER: "over",
    },
    EndKind: {
        EndKind.CREDENTIAL: "credentials of sources",
        EndKind.PASS: "passes",
        EndKind.HOLD: "holds",
        EndKind.WARRANTY: "warranties",
        EndKind.POLICY: "policies of the gate",
        EndKind.LICENCE: "licence seats",
    },
    Login: {
        Login.USER_NAME: "user name",
        Login.MAIL: "mail address",
    },
    SourceKind: {
        SourceKind.DIRECTORY: "directory (LDAP)",
        SourceKind.REGISTRY: "registry of a supplier",
        SourceKind.ROSTER: "roster file",
        SourceKind.PUSH: "pushed people (SCIM)",
        SourceKind.ISSUER: "issuer of licences",
    },
    PoolState: {
        PoolState.COVERED: "covered",
        PoolState.SHORT: "short",
        PoolState.GRACE: "in grace",
        PoolState.LAPSED: "lapsed",
    },
    Term: {
        Term.SHARED: "all seats end together",
        Term.EACH: "each voucher's seats end by themselves",
    },
    Shortage: {
        Shortage.ADMIT: "let in",
        Shortage.PARK: "parked",
        Shortage.REFUSE: "refused",
    },
    Act: {
        Act.TOP_UP: "top up: seats come to those that are there",
        Act.ROLLOVER: "roll over: seats take their place",
        Act.BESIDE: "beside: seats with an end of their own",
    },
    SecretKind: {
        SecretKind.PASSWORD: "password",
        SecretKind.TOKEN: "token",
        SecretKind.KEY: "key pair",
        SecretKind.CERTIFICATE: "certificate",
    },
    RegistryAct: {
        RegistryAct.ASSIGN: "assign to this server",
        RegistryAct.UNASSIGN: "take from this server",
        RegistryAct.RELEASE: "release for good",
        RegistryAct.SET_SHEET: "give the setup sheet",
        RegistryAct.CLEAR_SHEET: "clear the setup sheet",
        RegistryAct.BRING_IN: "bring into the registry",
    },
    Gap: {
        Gap.ABSENT: "not known there",
        Gap.UNKNOWN: "not known here",
        Gap.ALIVE: "retired here, alive there",
        Gap.DIFFERS: "known by both, told differently",
        Gap.TWICE: "listed more than once",
    },
    GapState: {
        GapState.OPEN: "open",
        GapState.DONE: "carried out, waits for the next run",
        GapState.ACCEPTED: "accepted",
        GapState.IGNORED: "ignored until a day",
        GapState.CLOSED: "closed",
    },
    Mend: {
        Mend.TAKE_WORD: "take their word",
        Mend.TAKE_IN: "take into the fleet",
        Mend.SAME: "it is the similar one",
        Mend.RETIRE: "retire here",
        Mend.SEND: "tell the source",
    },
    Role: {
        Role.VIEWER: "viewer: looks at everything, changes nothing",
        Role.TECHNICIAN: "technician: gives, names and reports devices, changes no rules",
        Role.COORDINATOR: "coordinator: does the whole work",
        Role.ADMINISTRATOR: "administrator: accounts, too",
    },
    Purpose: {
        Purpose.INTERFACE: "commands and scripts",
        Purpose.PEOPLE: "an identity provider that pushes people and groups",
        Purpose.CALENDAR: "a calendar that shows what ends",
    },
}

#: Comparison of the filter language → how it is said between an attribute and a value.
COMPARISONS: dict[str, str] = {
    "eq": "is",
    "ne": "is not",
    "co": "contains",
    "sw": "begins with",
    "ew": "ends with",
    "gt": "is more than",
    "ge": "is at least",
    "lt": "is less than",
    "le": "is at most",
    "pr": "is known",
}

#: Code of a note → the remedy beside leaving its rows out, in the words of a button.
REMEDIES: dict[str, tuple[Remedy, str]] = {
    "two_devices": (Remedy.MERGE, "Merge the devices"),
    "serial_differs": (Remedy.MERGE, "Keep both serial numbers"),
    "retired_device": (Remedy.TAKE_BACK, "Take the devices back"),
    "flagged_device": (Remedy.TAKE_BACK, "Clear the reports"),
    "hidden_row": (Remedy.SKIP, "Leave these rows out"),
    **{code: (Remedy.TAKE, "Take as they stand") for code in DOUBTS},
    **{
        code: (Remedy.TAKE, "They are rows")
        for code, kind in CATALOGUE.items()
        if kind.verdict is Verdict.NO_ROW
    },
}
