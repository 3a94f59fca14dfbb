"""The journal's operations, and what takes each of them back."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sortitor.core.documents import Difference, differences
from sortitor.core.errors import Conflict
from sortitor.core.previews import Count, Example, Preview, plural

_PUSH_AGAIN = "Let the identity provider push the former state again."

#: Operations that cannot be taken back by themselves, with what to do instead.
FINAL: dict[str, str] = {
    "account.add": "Disable the account instead.",
    "account.edit": "Change the account again.",
    "account.sign_in": "End the session instead.",
    "account.sign_in_failed": "Nothing was done that could be taken back.",
    "session.end": "Sign in again.",
    "arrival.turn_away": "Let the device knock again.",
    "retention.run": "Restore a backup elsewhere to look at what went.",
    "system.restore": "Restore another backup.",
    "export": "What was taken out cannot be called back.",
    "view.save": "Save the former view again.",
    "view.remove": "Save the view again.",
    "token.add": "Revoke the token instead.",
    "token.revoke": "Make a new token.",
    "pass.add": "Revoke the pass instead.",
    "pass.revoke": "Make a new pass.",
    "pass.remind": "What was mailed cannot be called back.",
    "welcome.picture": "Change the welcome card instead.",
    "mail.test": "What was mailed cannot be called back.",
    "mail.again": "What was mailed cannot be called back.",
    "lot.edit": "Edit the lot again, or discard it.",
    "lot.check": "Discard the lot instead.",
    "people.import": "Import the former file again.",
    "person.left": "Note that the person is back.",
    "person.back": "Note that the person has left.",
    "user.add": _PUSH_AGAIN,
    "user.edit": _PUSH_AGAIN,
    "user.remove": _PUSH_AGAIN,
    "group.add": _PUSH_AGAIN,
    "group.edit": _PUSH_AGAIN,
    "group.remove": _PUSH_AGAIN,
    "group.groups": "Set the former groups again.",
    "source.brake": "Nothing was done that could be taken back.",
    "source.secret": "Give the credential again.",
    "secrets.renew": "Nothing was changed but how they are kept.",
    "registry.act": "Ask the registry to do the contrary; what is released only its reseller can"
    " bring back.",
    "sweep.brake": "Nothing was done that could be taken back.",
    "device.erase": "What was erased is gone. One that arrives again is a new device.",
    "device.knock": "Retire or reassign the device instead.",
    "device.wake": "The device did this by itself.",
    "end.remind": "The mails are sent.",
    "file.keep": "Let go of the file; what nothing names goes by itself.",
    "file.remove": "Put the file in again.",
    "account.trial": "Nothing was done that could be taken back.",
    "device.password": "The device gets another one by itself.",
    "item.look": "What was looked at cannot be unseen; give the network another secret.",
    "item.retry": "Devices do by themselves what they were asked for.",
    "kit.push": "Devices do by themselves what they were asked for.",
}
_BESIDE_FIELDS = ("_at", "_basis")
#: Of a device's columns those that say nothing to a reader.
_SILENT = re.compile(r"_(at|basis)$|^(manual|hold|identifiers)$")


def device_changes(
    before: Mapping[str, Any] | None, after: Mapping[str, Any] | None
) -> tuple[Difference, ...]:
    """What an entry did to one device, in words. One that was made has no former side, one that is
    gone no later one.
    """
    told = differences(before or {}, after or {})
    return tuple(one for one in told if not _SILENT.search(one.field.replace(" ", "_")))


def check_revertible(
    entry_id: int, operation: str, summary: str, reverts: int | None, reverted_by: int | None
) -> None:
    """Raise Conflict for an entry that cannot be taken back, with what to do instead."""
    if reverted_by is not None:
        detail = f"Entry {entry_id} was reverted by entry {reverted_by}."
        raise Conflict("already_reverted", detail, "Read the journal.")
    if reverts is not None:
        detail = f"Entry {entry_id} is a revert itself."
        raise Conflict("is_a_revert", detail, "Make the change again.")
    if operation in FINAL:
        detail = f"“{summary}” cannot be reverted."
        raise Conflict("cannot_be_reverted", detail, FINAL[operation])


def document_revert(summary: str, stale: bool) -> Preview:
    """What taking back a change of a document does: all of it, or nothing where it was changed
    since.
    """
    counts = (
        Count("restored", "set back", 0 if stale else 1, "good"),
        Count("left", "left as it is", int(stale), "warn" if stale else "plain"),
    )
    warning = "It was changed again since; reverting would undo that too, so it is left as it is."
    return Preview(
        title=f"Revert: {summary}",
        apply_label="Close the entry" if stale else "Revert the change",
        counts=counts,
        examples=(),
        examples_total=0,
        warnings=(warning,) if stale else (),
    )


def devices_revert(
    summary: str,
    removed: int,
    restored: int,
    left: int,
    examples: tuple[Example, ...],
    examples_total: int,
) -> Preview:
    """What taking back an entry does to devices."""
    acts = []
    if removed:
        acts.append(f"remove {plural(removed, 'device')}")
    if restored:
        acts.append(f"set {plural(restored, 'device')} back")
    warning = f"{plural(left, 'device')} changed since and stay as they are; they are listed first."
    return Preview(
        title=f"Revert: {summary}",
        apply_label=(" and ".join(acts) or "close the entry").capitalize(),
        counts=(
            Count("removed", "devices removed", removed, "warn" if removed else "plain"),
            Count("restored", "devices set back", restored, "good"),
            Count("left", "devices left as they are", left, "warn" if left else "plain"),
        ),
        examples=examples,
        examples_total=examples_total,
        warnings=(warning,) if left else (),
    )


def decisions_revert(summary: str, restored: int, left: int) -> Preview:
    """What taking back a decision about discrepancies does."""
    counts = (
        Count("restored", "decisions taken back", restored, "good"),
        Count("left", "decided again since, left as they are", left, "warn" if left else "plain"),
    )
    return Preview(
        title=f"Revert: {summary}",
        apply_label="Take the decision back" if restored else "Close the entry",
        counts=counts,
        examples=(),
        examples_total=0,
    )


@dataclass(frozen=True, slots=True)
class PeopleUndoing:
    """What reverting an entry does to people and groups; `lines` as `name, action`."""

    restored: int
    removed: int
    left: int
    memberships: int
    lines: tuple[tuple[str, str], ...]


_PEOPLE_ACTIONS = {"restore": "set back", "remove": "removed", "left": "left as it is"}


def people_revert(summary: str, undoing: PeopleUndoing) -> Preview:
    """What taking back a run of a source does to people and groups."""
    left = undoing.left
    counts = (
        Count("removed", "people removed", undoing.removed, "warn" if undoing.removed else "plain"),
        Count("restored", "people set back", undoing.restored, "good"),
        Count("memberships", "memberships set back", undoing.memberships),
        Count("left", "people left as they are", left, "warn" if left else "plain"),
    )
    warnings = ["The source's next run says the same again, unless its scope is another by then."]
    if left:
        warnings.insert(0, "Who changed since, or has a device, stays; they are listed first.")
    return Preview(
        title=f"Revert: {summary}",
        apply_label="Take the run back",
        counts=counts,
        examples=tuple(
            Example(name, "person", None, _PEOPLE_ACTIONS[action]) for name, action in undoing.lines
        ),
        examples_total=undoing.removed + undoing.restored + left,
        warnings=tuple(warnings),
    )


def revert_example(
    device_id: int,
    label: str,
    action: str,
    after: Mapping[str, Any] | None,
    patch: Mapping[str, Any],
    remark: str,
) -> Example:
    """One device of a revert. action: remove, restore or left; patch: what is set back."""
    if action == "remove":
        return Example(label, "device", "present", "removed", remark, device_id)
    if action != "restore":
        return Example(label, "device", None, None, remark, device_id)
    fields = [field for field in patch if not field.endswith(_BESIDE_FIELDS)]
    present = after or {}
    return Example(
        subject=label,
        field=", ".join(fields),
        before=", ".join(str(present.get(field)) for field in fields),
        after=", ".join(str(patch[field]) for field in fields),
        note=remark,
        device_id=device_id,
    )
