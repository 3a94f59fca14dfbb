"""The way in: what is asked before the gate decides, over HTTP as the device and its person's page
answer it; mails by the mailbox stand-in.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from tests.doors import MAUD, Door, a_door
from tests.worlds import World, a_pass, change_baseline, import_people, knocking

from sortitor.client import Sortitor
from sortitor.client.errors import Refused, SignInNeeded, SlowDown
from sortitor.core.vocabulary import (
    Activation,
    MailState,
    Need,
    Outcome,
    Ownership,
    Platform,
    Proof,
    SignInWay,
    Stage,
    WayStage,
)
from sortitor.schemas.arrivals import ProgressTold, WayAnswers
from sortitor.schemas.cohorts import Cohort
from sortitor.schemas.gate import PlatformRule, Quota
from sortitor.schemas.passes import PassTerms
from sortitor.schemas.terms import Terms, TermsText

RULES = Terms(
    name="House rules",
    form="html",
    texts=(
        TermsText(language="en", text="<p onclick='x()'>Be kind<script>alert(1)</script></p>"),
        TermsText(language="de", text="<p>Freundlich sein</p>"),
    ),
)


@pytest.fixture
def door(make_world, tmp_path: Path) -> Iterator[Door]:  # type: ignore[no-untyped-def]
    with a_door(make_world, tmp_path) as made:
        yield made


def by_mail(s: Sortitor) -> None:
    change_baseline(s, sign_in=SignInWay.MAIL)


def test_a_person_signs_in_by_a_code_and_the_device_collects(door: Door) -> None:
    s = door.s
    by_mail(s)
    asked = door.asked()
    assert (asked.outcome, asked.asks, asked.credential) == (Outcome.ASKED, [Need.SIGN_IN], None)
    assert asked.secret
    assert asked.welcome_url
    assert asked.welcome_url.endswith(f"/welcome#{asked.secret}")
    assert s.devices.count() == 0, "it holds nothing"
    with pytest.raises(Refused, match="not decided yet"):
        s.agent.collect(asked.secret)
    s.agent.send_code(asked.secret, "MAUD@wrenmoor.example")
    way = s.agent.sign_in(asked.secret, door.code())
    assert (way.outcome, way.person_name) == (Outcome.ADMITTED, "Maud Fenwick")
    collected = s.agent.collect(asked.secret)
    assert collected.credential
    assert s.agent.check_in(collected.credential).stage is Stage.ACTIVE
    with pytest.raises(Refused, match="collected before"):
        s.agent.collect(asked.secret)
    assert s.devices.show(collected.device_id or 0).person_name == "Maud Fenwick"
    shown = s.arrivals.show(asked.arrival_id or 0)
    assert (shown.way, shown.proof) == (WayStage.DONE, Proof.MAIL)
    assert [(m.who, m.what) for m in shown.messages] == [
        ("person", "Asked for a code as MAUD@wrenmoor.example"),
        ("service", "A code was sent"),
        ("person", "Signed in by mail"),
        ("service", "Admitted as DEVICE-00001"),
    ]


def test_whoever_is_merely_stated_is_offered_and_never_taken(door: Door) -> None:
    s = door.s
    change_baseline(s, quota=1)
    first = door.asked("KM-1", person="maud")
    second = door.asked("KM-2", person="maud")
    assert (first.outcome, second.outcome) == (Outcome.PARKED, Outcome.PARKED)
    assert s.people.show("maud").holding == 0
    assert s.arrivals.show(first.arrival_id or 0).stated["person"] == "maud"


def test_an_answer_does_not_tell_whether_there_is_such_a_person(door: Door) -> None:
    s = door.s
    by_mail(s)
    known, unknown = door.asked("KM-1"), door.asked("KM-2")
    told = [
        s.agent.send_code(one.secret or "", name).model_dump(exclude={"arrival_id", "lapses_at"})
        for one, name in ((known, "maud"), (unknown, "nobody.here"))
    ]
    assert told[0] == told[1]
    assert len(door.send()) == 1
    with pytest.raises(Refused, match="not the code that was sent"):
        s.agent.sign_in(unknown.secret or "", "000000")


def test_a_code_is_guessed_five_times_and_then_a_new_one_is_needed(door: Door) -> None:
    s = door.s
    by_mail(s)
    secret = door.asked().secret or ""
    s.agent.send_code(secret, "maud")
    right = door.code()
    wrong = [f"{number:06d}" for number in range(6) if f"{number:06d}" != right][:5]
    for guess in wrong:
        with pytest.raises(Refused, match="not the code"):
            s.agent.sign_in(secret, guess)
    with pytest.raises(Refused, match="holds no longer"):
        s.agent.sign_in(secret, right)
    with (
        Sortitor(door.world.url, retries=False) as impatient,
        pytest.raises(SlowDown, match="just"),
    ):
        impatient.agent.send_code(secret, "maud")
    door.world.rows("UPDATE sign_in_codes SET sent_at = sent_at - interval '1 minute'")
    s.agent.send_code(secret, "maud")
    # In the digits of another script, as some keyboards give them.
    typed = door.code().translate(str.maketrans("0123456789", "٠١٢٣٤٥٦٧٨٩"))
    assert s.agent.sign_in(secret, typed).outcome is Outcome.ADMITTED


def test_a_code_is_old_after_ten_minutes_and_an_arrival_after_thirty(door: Door) -> None:
    s = door.s
    by_mail(s)
    secret = door.asked().secret or ""
    s.agent.send_code(secret, "maud")
    code = door.code()
    door.world.rows("UPDATE sign_in_codes SET sent_at = sent_at - interval '10 minutes'")
    with pytest.raises(Refused, match="holds no longer"):
        s.agent.sign_in(secret, code)
    door.world.rows("UPDATE arrivals SET lapses_at = lapses_at - interval '30 minutes'")
    with pytest.raises(SignInNeeded):
        s.agent.way(secret)
    [arrival] = s.arrivals.list()
    assert arrival.way is WayStage.LAPSED
    assert s.arrivals.counts().counts == {WayStage.LAPSED: 1}


def test_a_stranger_who_asks_for_codes_does_not_lock_the_person_out(door: Door) -> None:
    """Ten an hour to one address; somebody at another address is still answered."""
    s = door.s
    by_mail(s)
    code = a_pass(s)
    for number in range(12):
        s.agent.send_code(door.asked(f"KM-{number}0", code).secret or "", "maud")
    assert len(door.send()) == 10
    door.world.rows("UPDATE sign_in_codes SET address = '203.0.113.9'")
    s.agent.send_code(door.asked("KM-99", code).secret or "", "maud")
    assert len(door.send()) == 1


def test_a_pass_for_one_person_takes_nobody_elses_code(door: Door) -> None:
    s = door.s
    by_mail(s)
    asked = door.asked(code=a_pass(s, person="maud"))
    assert asked.asks == [Need.SIGN_IN], "made, but not mailed"
    s.agent.send_code(asked.secret or "", "odo")
    assert door.send() == []


def test_a_mailed_pass_is_its_persons_proof(door: Door) -> None:
    s = door.s
    by_mail(s)
    s.passes.add(PassTerms(label="New phone", person="maud"), mailed=True)
    assert [one.kind for one in door.send()] == ["pass"]
    [letter] = door.mailbox.to("maud@wrenmoor.example")
    found = re.search(r"[0-9A-Z]{5}-[0-9A-Z]{5}", letter.get_content())
    assert found
    answer = door.asked(code=found.group())
    assert answer.outcome is Outcome.ADMITTED
    assert door.world.rows("SELECT body, state FROM mails") == [(None, "sent")], "no secret is kept"


def test_terms_are_shown_clean_in_the_persons_language_and_accepted_once(door: Door) -> None:
    s = door.s
    made = s.terms.add(RULES)
    change_baseline(s, sign_in=SignInWay.MAIL, terms=("House rules",))
    secret = door.asked().secret or ""
    s.agent.send_code(secret, "maud")
    way = s.agent.sign_in(secret, door.code())
    assert (way.outcome, way.asks) == (Outcome.ASKED, [Need.TERMS])
    [shown] = s.agent.way(secret, "en").terms
    assert shown.html == "<p>Be kind</p>"
    [shown] = s.agent.way(secret, "de").terms
    assert (shown.language, shown.html) == ("de", "<p>Freundlich sein</p>")
    with pytest.raises(Refused, match="changed meanwhile"):
        s.agent.answer(secret, WayAnswers(accepted={"House rules": made.revision + 1}))
    accepted = WayAnswers(accepted={"House rules": made.revision})
    assert s.agent.answer(secret, accepted).outcome is Outcome.ADMITTED
    assert door.world.rows("SELECT terms_name, revision, person_id FROM acceptances") == [
        ("House rules", 1, 1)
    ]
    again = door.asked("KM-2").secret or ""
    s.agent.send_code(again, "maud")
    assert s.agent.sign_in(again, door.code()).outcome is Outcome.ADMITTED, "accepted before"
    [told] = s.terms.acceptances("House rules")
    assert (told.revision, told.person, told.language) == (made.revision, "maud", "en")
    assert told.device_id == next(s.devices.list(sort="id")).id
    s.terms.edit("House rules", RULES.model_copy(update={"note": "a new version"}))
    third = door.asked("KM-3").secret or ""
    s.agent.send_code(third, "maud")
    assert s.agent.sign_in(third, door.code()).asks == [Need.TERMS]


def test_terms_that_the_gate_asks_for_stay(door: Door) -> None:
    s = door.s
    with pytest.raises(Refused, match="there are none"):
        change_baseline(s, terms=("Nowhere",))
    s.terms.add(RULES)
    change_baseline(s, terms=("house rules",))
    with pytest.raises(Refused, match="The gate asks for"):
        s.terms.remove("House rules")
    change_baseline(s, terms=())
    s.terms.remove("House rules")
    entry = next(e for e in s.journal.list() if e.operation == "terms.remove")
    s.journal.revert(entry.id, s.journal.preview_revert(entry.id).digest)
    assert s.terms.show("House rules").texts == RULES.texts


def test_the_person_says_whose_it_is_and_knows_the_passcode(door: Door) -> None:
    s = door.s
    terms = PassTerms(label="Both", asks_ownership=True, person="maud")
    code = s.passes.add(terms, passcode="Möwe 7").code
    asked = door.asked(code=code)
    assert asked.asks == [Need.PASSCODE, Need.OWNERSHIP]
    secret = asked.secret or ""
    with pytest.raises(Refused, match="passcode is not right"):
        s.agent.answer(secret, WayAnswers(passcode="Möwe 8"))
    assert s.agent.answer(secret, WayAnswers(passcode=" Möwe 7 ")).asks == [Need.OWNERSHIP]
    with pytest.raises(Refused):
        s.agent.answer(secret, WayAnswers(ownership=Ownership.UNKNOWN))
    way = s.agent.answer(secret, WayAnswers(ownership=Ownership.CORPORATE))
    assert way.outcome is Outcome.ADMITTED
    device = s.devices.show(s.agent.collect(secret).device_id or 0)
    assert (device.ownership, device.ownership_basis) == ("corporate", "pass")
    direct = s.agent.knock(knocking(code, "KM-2", protocol=2, passcode="Möwe 7"))
    assert direct.asks == [Need.OWNERSHIP]
    mine = WayAnswers(ownership=Ownership.PERSONAL)
    assert s.agent.answer(direct.secret or "", mine).outcome is Outcome.ADMITTED, "asked once"


def test_who_it_is_changes_what_is_let_in(door: Door) -> None:
    """A group's policy counts once its person is proven; before, nothing is refused for it."""
    s = door.s
    last = s.gate.show().policies[-1]
    crew = last.model_copy(
        update={
            "name": "Crew",
            "groups": ("Crew",),
            "platforms": {Platform.ANDROID: PlatformRule(open=True)},
        }
    )
    closed = {**last.platforms, Platform.ANDROID: PlatformRule(open=False)}
    changed = last.model_copy(update={"platforms": closed, "sign_in": SignInWay.MAIL})
    policies = [crew, changed]
    s.gate.apply(policies, s.gate.preview(policies).digest)
    for person, outcome in (("maud", Outcome.ADMITTED), ("odo", Outcome.REFUSED)):
        secret = door.asked(f"KM-{person}").secret or ""
        s.agent.send_code(secret, person)
        way = s.agent.sign_in(secret, door.code(f"{person}@wrenmoor.example"))
        assert way.outcome is outcome
    assert way.messages == ["This kind of device cannot be used here."]
    assert s.agent.collect(secret).credential is None


def test_an_old_agent_is_told_what_to_do(door: Door) -> None:
    s = door.s
    by_mail(s)
    answer = s.agent.knock(knocking(a_pass(s), "KM-1"))
    assert (answer.outcome, answer.codes) == (Outcome.REFUSED, ["protocol_old"])
    assert "too old" in answer.messages[0]
    change_baseline(s, sign_in=SignInWay.NOBODY)
    assert s.agent.knock(knocking(a_pass(s), "KM-1")).outcome is Outcome.PARKED


def test_a_shared_device_is_asked_for_nobody(door: Door) -> None:
    s = door.s
    by_mail(s)
    code = a_pass(s, activation=Activation.SHARED)
    assert door.asked(code=code).outcome is Outcome.ADMITTED


def test_progress_is_told_by_the_device_and_seen(door: Door) -> None:
    s = door.s
    answer = door.asked(code=a_pass(s, activation=Activation.SHARED))
    credential = answer.credential or ""
    s.agent.progress(credential, ProgressTold(done=3, total=10, doing="Certificates"))
    [arrival] = s.arrivals.list(way=WayStage.SETTING_UP)
    assert arrival.progress
    assert (arrival.progress["done"], arrival.progress["total"]) == (3, 10)
    s.agent.progress(credential, ProgressTold(done=3, total=10, failed="No space left"))
    assert next(s.arrivals.list()).way is WayStage.FAILED
    s.agent.progress(credential, ProgressTold(done=10, total=10, finished=True))
    assert next(s.arrivals.list()).way is WayStage.DONE
    with pytest.raises(SignInNeeded):
        s.agent.progress("nonsense", ProgressTold(done=1, total=1))


def test_devices_join_the_list_that_the_pass_names(door: Door) -> None:
    s = door.s
    for name in ("Crew phones", "Others"):
        s.cohorts.add(Cohort(name=name))
    places = [{"group": "Crew", "cohort": "Crew phones"}]
    for person in ("maud", "odo"):
        code = a_pass(s, person=person, cohort="Others", cohort_by_group=places)
        door.asked(f"KM-{person}", code)
    members = {
        name: [d.person_name for d in s.devices.list(filter=f'cohorts eq "{name}"')]
        for name in ("Crew phones", "Others")
    }
    assert members == {"Crew phones": ["Maud Fenwick"], "Others": ["Odo Gannet"]}
    with pytest.raises(Refused, match="There is no list"):
        a_pass(s, cohort="Nowhere")


def test_the_quota_holds_however_many_answer_at_once(door: Door) -> None:
    s = door.s
    change_baseline(s, sign_in=SignInWay.MAIL, quota=2)
    code = a_pass(s)
    secrets = []
    for number in range(8):
        secret = door.asked(f"KM-{number}0", code).secret or ""
        s.agent.send_code(secret, "maud")
        secrets.append((secret, door.code()))

    def sign_in(one: tuple[str, str]) -> Outcome:
        with Sortitor(door.world.url) as page:
            return page.agent.sign_in(*one).outcome

    with ThreadPoolExecutor(8) as threads:
        outcomes = list(threads.map(sign_in, secrets))
    assert sorted(outcomes) == [Outcome.ADMITTED] * 2 + [Outcome.REFUSED] * 6
    assert s.people.show("maud").holding == 2


# ---- passes for many


def test_a_pass_each_for_a_group_who_used_it_reminders_and_revoking(
    door: Door, tmp_path: Path
) -> None:
    s = door.s
    import_people(s, tmp_path, "eve,Eve Sallow,eve@wrenmoor.example,,,Crew")
    made = s.passes.add_for_people(PassTerms(label="April", max_uses=1), group="crew")
    assert [one.code for one in made] == [None, None], "mailed codes are shown to nobody else"
    assert {one.kind for one in door.send()} == {"pass"}
    letter = door.mailbox.to("eve@wrenmoor.example")[0].get_content()
    found = re.search(r"[0-9A-Z]{5}-[0-9A-Z]{5}", letter)
    assert found
    assert door.asked(code=found.group()).outcome is Outcome.ADMITTED
    [one] = s.passes.list()
    assert (one.made, one.used, one.person_name) == (2, 1, None)
    uses = {use.person_name: (use.uses, use.mail_state) for use in s.passes.people(one.id)}
    assert uses == {"Eve Sallow": (1, MailState.SENT), "Maud Fenwick": (0, MailState.SENT)}
    assert s.passes.remind(one.id) == 1
    door.send()
    assert "Your device is waiting" in str(door.mailbox.to("maud@")[-1]["Subject"])
    assert [a.pass_id for a in s.arrivals.list(pass_id=one.id)] == [made[1].id]
    assert s.passes.remind(one.id) == 1
    assert s.passes.revoke(one.id, "enough", whole_batch=True) == 2
    assert door.send() == [], "the mail that waited says what is no longer so"
    with pytest.raises(Refused, match="no living pass"):
        s.passes.revoke(one.id)


def test_passes_for_people_are_made_for_all_or_for_none(door: Door, tmp_path: Path) -> None:
    s = door.s
    import_people(s, tmp_path, "eve,Eve Sallow,,,,Crew")
    terms = PassTerms(label="April")
    with pytest.raises(Refused, match=r"no person nobody\.here"):
        s.passes.add_for_people(terms, ["maud", "nobody.here"])
    with pytest.raises(Refused, match="No mail address is known of Eve Sallow"):
        s.passes.add_for_people(terms, ["maud", "eve"])
    assert list(s.passes.list()) == []
    made = s.passes.add_for_people(terms, ["MAUD@wrenmoor.example", "maud", "eve"], mailed=False)
    assert [one.person for one in made] == ["maud", "eve"]
    assert all(one.code for one in made)


# ---- mail


def test_a_mail_server_that_is_away_loses_nothing(door: Door) -> None:
    s = door.s
    by_mail(s)
    door.mailbox.refuse = "451 Come back later"
    secret = door.asked().secret or ""
    s.agent.send_code(secret, "maud")
    [tried] = door.send()
    assert (tried.state, "451" in (tried.reason or "")) == (MailState.WAITING, True)
    assert door.send() == [], "not before its time"
    door.mailbox.refuse = ""
    [waiting] = s.mails.list()
    assert waiting.tries == 1
    door.world.rows("UPDATE mails SET next_try_at = now() - interval '1 second'")
    assert s.agent.sign_in(secret, door.code()).outcome is Outcome.ADMITTED


def test_a_mail_that_is_refused_for_good_has_failed_and_is_tried_by_hand(door: Door) -> None:
    from sortitor.core.vocabulary import Role

    admin = door.world.client(Role.ADMINISTRATOR)
    door.mailbox.refuse = "550 No such box"
    admin.mails.test("gone@wrenmoor.example")
    [tried] = door.send()
    assert tried.state is MailState.FAILED
    [mail_row] = admin.mails.list(MailState.FAILED)
    assert "550" in (mail_row.last_error or "")
    door.mailbox.refuse = ""
    admin.mails.again(mail_row.id)
    assert [one.state for one in door.send()] == [MailState.SENT]
    with pytest.raises(Refused, match="no mail address"):
        admin.mails.test("nobody at all")


def test_an_address_that_is_none_stands_in_nobodys_way(door: Door) -> None:
    s = door.s
    by_mail(s)
    door.world.rows("UPDATE people SET mail = E'not\\nan <address' WHERE user_name = 'odo'")
    s.agent.send_code(door.asked("KM-1").secret or "", "odo")
    secret = door.asked("KM-2").secret or ""
    s.agent.send_code(secret, "maud")
    assert [one.state for one in door.send()] == [MailState.FAILED, MailState.SENT]
    assert s.agent.sign_in(secret, door.code()).outcome is Outcome.ADMITTED


def test_a_code_that_came_too_late_is_not_sent(door: Door) -> None:
    s = door.s
    by_mail(s)
    s.agent.send_code(door.asked().secret or "", "maud")
    door.world.rows("UPDATE mails SET useless_at = now()")
    assert [one.state for one in door.send()] == [MailState.DROPPED]
    assert door.world.rows("SELECT body FROM mails") == [(None,)]


def test_a_change_that_is_rolled_back_sends_nothing(door: Door, tmp_path: Path) -> None:
    s = door.s
    import_people(s, tmp_path, "eve,Eve Sallow,,,,Office")
    with pytest.raises(Refused):
        s.passes.add_for_people(PassTerms(label="April"), group="Office")
    assert door.send() == []


def test_without_a_mail_server_nothing_asks_for_mail(world: World, tmp_path: Path) -> None:
    s = world.client()
    import_people(s, tmp_path, MAUD)
    for change in (
        lambda: by_mail(s),
        lambda: a_pass(s, sign_in=SignInWay.MAIL),
        lambda: s.passes.add(PassTerms(label="x", person="maud"), mailed=True),
    ):
        with pytest.raises(Refused, match="mail server"):
            change()
    with pytest.raises(Refused, match="no directory"):
        change_baseline(s, sign_in=SignInWay.DIRECTORY)


def test_a_quota_of_a_platform_is_asked_after_the_sign_in(door: Door) -> None:
    s = door.s
    last = s.gate.show().policies[-1]
    own = PlatformRule(open=True, quota=Quota(devices=1))
    change_baseline(s, sign_in=SignInWay.MAIL, platforms={**last.platforms, Platform.ANDROID: own})
    outcomes = []
    for number in range(2):
        secret = door.asked(f"KM-{number}0").secret or ""
        s.agent.send_code(secret, "maud")
        outcomes.append(s.agent.sign_in(secret, door.code()).outcome)
    assert outcomes == [Outcome.ADMITTED, Outcome.REFUSED]
