"""The way in of an arrival that is asked: signing in, answering, collecting, telling how far it is.

Whoever holds the arrival's secret answers: the device, or its person's page. It lapses after half
an hour of real time, and holds nothing until it is decided.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from tenacity import retry, retry_if_exception, stop_after_attempt

from sortitor.core import mails as core_mails
from sortitor.core import signing_in
from sortitor.core.arrivals import Knock, keys_of
from sortitor.core.errors import BadInput, Conflict, FieldProblem, NotSignedIn, SlowDown
from sortitor.core.terms import Terms
from sortitor.core.vocabulary import (
    Claim,
    Need,
    Outcome,
    Ownership,
    Platform,
    Proof,
    Role,
    SignInWay,
    Speaker,
)
from sortitor.operations import gate, mail
from sortitor.operations.arrivals.knocking import (
    PROTOCOL,
    Given,
    decide,
    hand_credential,
    hash_credential,
    is_right_passcode,
    was_overtaken,
)
from sortitor.operations.context import Actor, Context, or_not_found
from sortitor.operations.documents import Kept
from sortitor.operations.naming import NAMING, NAMING_ID
from sortitor.operations.sources import passwords
from sortitor.operations.terms import TERMS, as_html
from sortitor.store import arrivals as store
from sortitor.store import door, mails, people
from sortitor.store.arrivals import AskedRow, PassRow
from sortitor.store.engine import Connection
from sortitor.store.people import PersonRow

_TRIES = 5
#: Codes that are sent to one person in an hour: to whoever asks from one address, and to all. A
#: stranger who asks too often is silent sooner than the person.
_HOURLY_OF_ADDRESS, _HOURLY_OF_ALL = 10, 60


@dataclass(frozen=True, slots=True)
class TermsShown:
    """Terms that are asked for, clean to be shown."""

    name: str
    revision: int
    language: str
    html: str


@dataclass(frozen=True, slots=True)
class Way:
    """How far an arrival is, for the device and its person."""

    arrival_id: int
    outcome: Outcome
    asks: tuple[Need, ...]
    terms: tuple[TermsShown, ...]
    sentences: tuple[str, ...]
    codes: tuple[str, ...]
    lapses_at: datetime
    code_sent: bool
    #: How the person is to sign in, where that is asked.
    sign_in: SignInWay | None
    device_name: str | None
    progress: Mapping[str, Any] | None
    person_name: str | None


@dataclass(frozen=True, slots=True)
class Answers:
    """What the person answers; each may come by itself."""

    passcode: str | None = None
    ownership: Ownership | None = None
    #: Name of terms → the version that was shown and accepted.
    accepted: Mapping[str, int] | None = None
    language: str = "en"


def look(ctx: Context, secret: str, language: str | None) -> Way:
    """How far the arrival of a secret is."""
    with ctx.reading() as connection:
        return _way(ctx, connection, _asked(ctx, connection, secret), language)


def send_code(ctx: Context, secret: str, name: str, address: str, language: str | None) -> Way:
    """Send a code to the mail address that is known of whoever is named.

    The answer is the same whether there is such a person or not, and takes as long.
    """
    mail.require_mail(ctx)
    wall = ctx.clock.wall()
    with ctx.bookkeeping() as connection:
        asked = _open_for(ctx, connection, secret, SignInWay.MAIL)
        former = store.code_of(connection, asked.id, lock=True)
        if former is not None and wall < former.sent_at + signing_in.PAUSE:
            wait = (former.sent_at + signing_in.PAUSE - wall).total_seconds()
            raise SlowDown(
                int(wait) + 1, "A code was sent just now.", "Look into the mails; then ask again."
            )
        if former is not None and former.sent >= signing_in.MOST_CODES:
            raise SlowDown(60, "Too many codes were sent.", "Start again on the device.")
        person = _to_be_mailed(connection, asked, name, address, wall)
        code = signing_in.new_code(secrets.randbelow)
        values = {
            "arrival_id": asked.id,
            "code_hash": signing_in.hash_code(code, asked.id),
            "person_id": person.id if person else None,
            "address": address,
            "sent_at": wall,
        }
        store.keep_code(connection, values)
        if person is not None and person.mail:
            line = mail.line(
                ctx,
                "code",
                person.mail,
                core_mails.code_mail(code),
                to_name=person.name,
                person_id=person.id,
                life=signing_in.LIFE,
            )
            mails.put(connection, [line])
        told = "A code was sent" if person else "No code was sent: nobody is known by that name"
        lines = ((Speaker.PERSON, f"Asked for a code as {name.strip()[:100]}"),)
        store.say(connection, asked.id, ctx.now, *lines, (Speaker.SERVICE, told))
        return _way(ctx, connection, asked, language)


def _to_be_mailed(
    connection: Connection, asked: AskedRow, name: str, address: str, wall: datetime
) -> PersonRow | None:
    person = people.by_name(connection, name)
    if person is None or not person.mail:
        return None
    shown = _pass(connection, asked)
    if shown.person_id not in (None, person.id):
        return None
    since = wall - timedelta(hours=1)
    to_all, to_address = store.codes_sent(connection, person.id, address, since)
    if to_address >= _HOURLY_OF_ADDRESS or to_all >= _HOURLY_OF_ALL:
        return None
    return person


def sign_in(ctx: Context, secret: str, code: str, language: str | None) -> tuple[Way, bool]:
    """Type the code that was sent; and whether it was right."""
    wall = ctx.clock.wall()
    with ctx.bookkeeping() as connection:
        asked = _open_for(ctx, connection, secret, SignInWay.MAIL)
        sent = store.code_of(connection, asked.id, lock=True)
        if sent is None or not signing_in.is_living(sent.sent_at, sent.tries, wall):
            raise Conflict(
                "no_code",
                "The code holds no longer.",
                "Let a new one be sent to you.",
            )
        right = signing_in.matches(code, asked.id, sent.code_hash) and sent.person_id is not None
        if not right:
            store.count_try(connection, asked.id)
            store.say(connection, asked.id, ctx.now, (Speaker.PERSON, "Typed a wrong code"))
            return _way(ctx, connection, asked, language), False
        proven = {"person_id": sent.person_id, "proof": Proof.MAIL}
        store.change_arrival(connection, asked.id, proven)
        store.spend_code(connection, asked.id, signing_in.MOST_TRIES)
        store.say(connection, asked.id, ctx.now, (Speaker.PERSON, "Signed in by mail"))
    return answer(ctx, secret, Answers(language=language or "en")), True


def sign_in_by_password(
    ctx: Context, secret: str, login: str, password: str, language: str | None
) -> tuple[Way, bool]:
    """Show the directory's password; and whether it was right. The directory is asked in no
    transaction, after the try was counted.
    """
    with ctx.bookkeeping() as connection:
        asked = _open_for(ctx, connection, secret, SignInWay.DIRECTORY)
        tries = int(asked.answers.get("password_tries", 0))
        if tries >= _TRIES:
            raise SlowDown(60, "The password was tried too often.", "Start again on the device.")
        counted = {"answers": {**asked.answers, "password_tries": tries + 1}}
        store.change_arrival(connection, asked.id, counted)
    person_id = passwords.person_by(ctx, login, password)
    with ctx.bookkeeping() as connection:
        asked = _open_for(ctx, connection, secret, SignInWay.DIRECTORY)
        shown = _pass(connection, asked)
        if person_id is None or shown.person_id not in (None, person_id):
            told = (Speaker.PERSON, "Typed a wrong password")
            store.say(connection, asked.id, ctx.now, told)
            return _way(ctx, connection, asked, language), False
        proven = {"person_id": person_id, "proof": Proof.DIRECTORY}
        store.change_arrival(connection, asked.id, proven)
        told = (Speaker.PERSON, "Signed in by the directory's password")
        store.say(connection, asked.id, ctx.now, told)
    return answer(ctx, secret, Answers(language=language or "en")), True


def answer(ctx: Context, secret: str, given: Answers) -> Way:
    """Answer what is asked; once all is known, the gate decides and it is carried out."""
    right = _check_passcode(ctx, secret, given)
    return _answer_once(ctx, secret, given, right)


def _check_passcode(ctx: Context, secret: str, given: Answers) -> bool:
    """Whether the right passcode was given; before anything is locked, since it takes a while."""
    if given.passcode is None:
        return False
    with ctx.reading() as connection:
        asked = _asked(ctx, connection, secret)
        shown = _pass(connection, asked)
    if is_right_passcode(shown, given.passcode):
        return True
    with ctx.bookkeeping() as connection:
        store.say(connection, asked.id, ctx.now, (Speaker.PERSON, "Typed a wrong passcode"))
    raise BadInput(
        "wrong_passcode",
        "The passcode is not right.",
        "Ask whoever gave you the code.",
        (FieldProblem("/passcode", "wrong_passcode", "This is not the passcode."),),
    )


@retry(retry=retry_if_exception(was_overtaken), stop=stop_after_attempt(_TRIES), reraise=True)
def _answer_once(ctx: Context, secret: str, given: Answers, passcode_shown: bool) -> Way:
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    with device_ctx.changing() as connection:
        asked = _open(ctx, connection, secret)
        answers = _with(connection, asked, given, passcode_shown)
        stated = _stated(asked)
        shown = _pass(connection, asked)
        person_id = asked.person_id
        decided = decide(
            device_ctx,
            connection,
            stated,
            keys_of(stated),
            Given(
                shown=shown,
                rules=gate.in_force(connection, ctx.today),
                naming=NAMING.find(connection, NAMING_ID).document,
                passcode_shown=bool(answers.get("passcode")),
                proven=person_id if asked.proof != Proof.NONE else None,
                proof=asked.proof,
                ownership=_ownership(answers),
                accepted=_accepted(connection, answers, person_id),
                answers=answers,
                arrival_id=asked.id,
            ),
        )
        if decided.outcome is not Outcome.ASKED:
            _write_acceptances(ctx, connection, asked.id, person_id, answers)
        told = f"{decided.outcome.capitalize()}{f' as {decided.name}' if decided.name else ''}"
        if decided.outcome is Outcome.ASKED:
            told = f"Asked for {', '.join(need.replace('_', ' ') for need in decided.asks)}"
        store.say(connection, asked.id, ctx.now, (Speaker.SERVICE, told))
        return _way(ctx, connection, _asked(ctx, connection, secret), given.language)


def _with(
    connection: Connection, asked: AskedRow, given: Answers, passcode_shown: bool
) -> dict[str, Any]:
    answers = dict(asked.answers)
    if passcode_shown:
        answers["passcode"] = True
    if given.ownership is not None:
        if given.ownership is Ownership.UNKNOWN:
            raise BadInput("bad_ownership", "Say whose the device is.", "Choose one.")
        answers["ownership"] = given.ownership
    if given.accepted:
        current = {kept.document.name: kept.revision for kept in TERMS.shelf.every(connection)}
        for name, revision in given.accepted.items():
            if current.get(name) != revision:
                raise Conflict(
                    "terms_changed",
                    f"The terms “{name}” were changed meanwhile.",
                    "Read them again, please.",
                )
        kept = {name: [revision, given.language] for name, revision in given.accepted.items()}
        answers["terms"] = {**answers.get("terms", {}), **kept}
    return answers


def _ownership(answers: Mapping[str, Any]) -> Ownership | None:
    return Ownership(answers["ownership"]) if "ownership" in answers else None


def _accepted(
    connection: Connection, answers: Mapping[str, Any], person_id: int | None
) -> frozenset[str]:
    """The terms that were accepted in the version that holds, now or by the person before."""
    before = store.accepted_by(connection, person_id) if person_id else {}
    current = {kept.document.name: kept.revision for kept in TERMS.shelf.every(connection)}
    now = answers.get("terms", {})
    return frozenset(
        name
        for name, revision in current.items()
        if before.get(name, 0) >= revision or now.get(name, [0])[0] >= revision
    )


def _write_acceptances(
    ctx: Context,
    connection: Connection,
    arrival_id: int,
    person_id: int | None,
    answers: Mapping[str, Any],
) -> None:
    lines = [
        {
            "at": ctx.now,
            "terms_name": name,
            "revision": revision,
            "language": language,
            "person_id": person_id,
            "arrival_id": arrival_id,
        }
        for name, (revision, language) in answers.get("terms", {}).items()
    ]
    store.accept_terms(connection, lines)


@dataclass(frozen=True, slots=True)
class Collected:
    """What the device takes with it once it was let in."""

    arrival_id: int
    outcome: Outcome
    sentences: tuple[str, ...]
    codes: tuple[str, ...]
    device_id: int | None
    name: str | None
    credential: str | None


def collect(ctx: Context, secret: str) -> Collected:
    """The decision with the device's credential, this once; the page is never given it."""
    device_ctx = replace(ctx, actor=Actor("device", Role.VIEWER), claim=None)
    with device_ctx.changing() as connection:
        asked = _asked(ctx, connection, secret)
        if asked.device_id is not None:
            # Before the arrival, as whoever knocks does who denies a former claim.
            door.hold_device(connection, asked.device_id)
        asked = _asked(ctx, connection, secret, lock=asked.decided_at is not None)
        if asked.decided_at is None:
            raise Conflict(
                "not_decided", "This arrival is not decided yet.", "Answer what is asked first."
            )
        if asked.collected_at is not None:
            raise Conflict("collected", "This was collected before.", "Knock again with a pass.")
        credential = None
        if asked.outcome is not Outcome.REFUSED and asked.device_id is not None:
            credential = secrets.token_urlsafe(32)
            claim = asked.id if asked.claim is Claim.OPEN else None
            hand_credential(ctx, connection, asked.device_id, credential, claim)
        store.change_arrival(connection, asked.id, {"collected_at": ctx.now, "moved_at": ctx.now})
        row = store.one(connection, asked.id)
        return Collected(
            arrival_id=asked.id,
            outcome=asked.outcome,
            sentences=_sentences(asked),
            codes=tuple(reason["code"] for reason in asked.reasons),
            device_id=asked.device_id,
            name=row.device_name if row else None,
            credential=credential,
        )


# ---- what stands behind


def _asked(ctx: Context, connection: Connection, secret: str, lock: bool = False) -> AskedRow:
    asked = store.asked_by(connection, hash_credential(secret), lock)
    if asked is None or ctx.clock.wall() >= asked.lapses_at:
        raise NotSignedIn(
            "lapsed",
            "This took too long, or is not known here.",
            "Start again on the device.",
        )
    return asked


def _open(ctx: Context, connection: Connection, secret: str) -> AskedRow:
    """The arrival, held, which is still to be decided."""
    asked = _asked(ctx, connection, secret, lock=True)
    if asked.decided_at is not None:
        raise _not_asked()
    return asked


def _open_for(ctx: Context, connection: Connection, secret: str, way: SignInWay) -> AskedRow:
    """The same, which asks its person to sign in that way."""
    asked = _open(ctx, connection, secret)
    if _sign_in_way(asked) is not way:
        raise _not_asked()
    return asked


def _not_asked() -> Conflict:
    return Conflict("not_asked", "This is not asked for any more.", "Look how far it is.")


def _sign_in_way(asked: AskedRow) -> SignInWay | None:
    """How the person is to sign in; None where that is not asked."""
    if Need.SIGN_IN not in asked.asks:
        return None
    return SignInWay(asked.answers.get("wanted_sign_in", SignInWay.MAIL))


def _pass(connection: Connection, asked: AskedRow) -> PassRow:
    return or_not_found(store.one_pass(connection, asked.pass_id), "pass", asked.pass_id)


def _stated(asked: AskedRow) -> Knock:
    said = asked.stated
    return Knock(
        code="",
        platform=Platform(said["platform"]),
        os_version=said.get("os_version"),
        maker=said.get("maker"),
        model=said.get("model"),
        serial=said.get("serial"),
        imeis=tuple(said.get("imeis") or ()),
        person=None,
        credential=asked.shown_credential,
        protocol=PROTOCOL,
    )


def _sentences(asked: AskedRow) -> tuple[str, ...]:
    return tuple(dict.fromkeys(reason["sentence"] for reason in asked.reasons))


def _way(ctx: Context, connection: Connection, asked: AskedRow, language: str | None) -> Way:
    sent = store.code_of(connection, asked.id)
    row = or_not_found(store.one(connection, asked.id), "arrival", asked.id)
    living = sent is not None and signing_in.is_living(sent.sent_at, sent.tries, ctx.clock.wall())
    return Way(
        arrival_id=asked.id,
        outcome=asked.outcome,
        asks=tuple(Need(need) for need in asked.asks),
        terms=tuple(_terms(connection, asked, language)) if Need.TERMS in asked.asks else (),
        sentences=_sentences(asked),
        codes=tuple(reason["code"] for reason in asked.reasons),
        lapses_at=asked.lapses_at,
        code_sent=living,
        sign_in=_sign_in_way(asked),
        device_name=row.device_name if asked.outcome is not Outcome.REFUSED else None,
        progress=asked.progress,
        # Only whoever has signed in is told their own name.
        person_name=row.person_name if asked.proof in _SIGNED_IN else None,
    )


_SIGNED_IN = (Proof.MAIL, Proof.DIRECTORY)


def _terms(connection: Connection, asked: AskedRow, language: str | None) -> list[TermsShown]:
    wanted = {name.casefold() for name in asked.answers.get("wanted_terms", ())}
    found: list[Kept[Terms]] = TERMS.shelf.every(connection)
    shown = []
    for kept in found:
        if kept.document.name.casefold() in wanted:
            spoken, text = as_html(kept.document, language)
            shown.append(TermsShown(kept.document.name, kept.revision, spoken, text))
    return shown
