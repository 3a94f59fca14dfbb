"""`sortitor sweep`, `rule` and `hold`: retiring what went quiet, and keeping it."""

from __future__ import annotations

import json
from datetime import date, datetime
from pathlib import Path
from typing import Any

import click

from sortitor.cli.choosing import named, named_options
from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.dates import until_option
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import (
    agree,
    change_options,
    confirm_option,
    confirmed,
    counted,
    dry_run_option,
    form_of,
    is_data,
    most_option,
    output_option,
    quoted,
    reason_option,
    record,
    show_preview,
    talk,
    to_option,
    write,
    written,
    yes_option,
)
from sortitor.client import Sortitor
from sortitor.core.sweeps import Rule
from sortitor.schemas.holds import HoldNew
from sortitor.schemas.sweeps import RuleDetail

_DAY = click.DateTime(["%Y-%m-%d"])


@click.group()
def rule() -> None:
    """Rules of sweeps: who is watched, and for how long a device may be quiet."""


def _runs(rule: RuleDetail) -> str:
    return f"every {counted(rule.every_hours, 'hour')}" if rule.every_hours else "by hand"


def _before(days: int) -> str:
    return f"{counted(days, 'day')} before"


def _erased(days: int) -> str:
    return f"{counted(days, 'day')} after it was retired" if days else "never"


def _detail(s: Sortitor, found: RuleDetail) -> None:
    record(
        [
            ("Rule", f"{found.id}  {found.name}"),
            ("Window", counted(found.idle_window_days, "day")),
            ("Devices", found.filter or "all"),
            ("Notice", counted(found.dormant_days, "day") if found.dormant_days else "none"),
            ("Told again", _before(found.remind_days) if found.remind_days else "no"),
            ("Erased", _erased(found.retention_days)),
            ("Contacts", list(found.contacts) or ["nobody beside its person"]),
            ("Runs", _runs(found)),
            ("Brake", f"{found.brake_percent} %"),
        ]
    )
    talk(f"\nNext: sortitor sweep preview {quoted(found.name)}")


add_commands(
    Noun(
        group=rule,
        word="rule",
        calls=lambda s: s.sweep_rules,
        model=Rule,
        columns={
            "Id": lambda r: r.id,
            "Rule": lambda r: r.name,
            "Window": lambda r: counted(r.idle_window_days, "day"),
            "Notice": lambda r: counted(r.dormant_days, "day") if r.dormant_days else "none",
            "Runs": _runs,
            "Brake": lambda r: f"{r.brake_percent} %",
            "Devices": lambda r: r.filter or "all",
        },
        below=["Devices"],
        options={
            "idle_window_days": "--idle-window",
            "brake_percent": "--brake",
            "dormant_days": "--notice",
            "remind_days": "--remind",
            "retention_days": "--retention",
            "contacts": "--contact",
            "every_hours": "--every",
        },
        after=lambda r: f"sortitor sweep preview {quoted(r.name)}",
        detail=_detail,
        empty="No rules yet. Next: sortitor rule add NAME --idle-window 90",
        examples={
            "list": "sortitor rule list",
            "show": 'sortitor rule show "Quiet tablets"',
            "add": 'sortitor rule add "Quiet tablets" --idle-window 120',
            "edit": 'sortitor rule edit "Quiet tablets" --idle-window 150',
            "remove": 'sortitor rule remove "Quiet tablets"',
            "revisions": 'sortitor rule revisions "Quiet tablets"',
        },
    )
)


@click.group()
def sweep() -> None:
    """Retire what went quiet: previews and runs."""


@sweep.command()
@click.argument("rule")
@output_option
@with_client
def preview(s: Sortitor, rule: str, output: str) -> None:
    """Whom a rule would retire now, with the histogram of idle days.

    \b
    Example:
      sortitor sweep preview "Quiet tablets"
    """
    shown = s.sweeps.preview(rule)
    if is_data(shown, output):
        return
    show_preview(shown)
    if shown.nothing_to_do:
        talk(f"\nNothing to retire. Next: sortitor rule show {quoted(rule)}")
        return
    talk(
        f"\nNext: sortitor sweep apply {quoted(rule)}    or keep some:"
        " sortitor hold add --id NUMBER --until DAY --reason WHY"
    )


@sweep.command()
@click.argument("rule")
@to_option("Where to; .csv or .xlsx.")
@with_client
def export(s: Sortitor, rule: str, to: Path) -> None:
    """Write whom a rule would make dormant or retire now to a file.

    \b
    Example:
      sortitor sweep export "Quiet tablets" --to due.xlsx
    """
    found = s.sweep_rules.show(rule)
    wanted = Rule.model_validate(found.model_dump(include=set(Rule.model_fields)))
    to.write_bytes(s.sweeps.due_file(wanted, form_of(to)))
    written(to, f" Next: sortitor sweep preview {quoted(rule)}")


@sweep.command()
@click.argument("rule")
@change_options
@with_client
def apply(s: Sortitor, rule: str, yes: bool, reason: str | None) -> None:
    """Retire what the preview shows.

    \b
    Example:
      sortitor sweep apply "Quiet tablets" --reason "winter clean-up"
    """
    shown = s.sweeps.preview(rule)
    agree(shown, yes)
    done = s.sweeps.apply(rule, shown.digest, reason)
    talk(
        f"Sweep {done.id}: {done.retired:,} of {done.watched:,} devices retired,"
        f" {done.dormant:,} given notice. Take it back with: sortitor sweep revert {done.id}"
    )


@sweep.command()
@click.argument("rule")
@confirm_option
@reason_option
@dry_run_option
@with_client
def erase(s: Sortitor, rule: str, confirm: int | None, reason: str | None) -> None:
    """Erase the retired devices that a rule's retention is over for; nothing brings them back.

    \b
    Example:
      sortitor sweep erase "Quiet tablets"
    """
    shown = s.sweeps.preview_erasure(rule)
    done = s.sweeps.erase(rule, shown.digest, confirmed(shown, confirm), reason)
    talk(f"Erased. Its certificate: sortitor erasure certificate {done.id}")


@sweep.command("list")
@most_option
@output_option
@with_client
def list_runs(s: Sortitor, most: int, output: str) -> None:
    """List runs, newest first.

    \b
    Example:
      sortitor sweep list
    """
    columns = {
        "Id": lambda r: r.id,
        "Rule": lambda r: r.rule_name,
        "At": lambda r: r.at,
        "By": lambda r: r.by,
        "State": lambda r: r.state,
        "Retired": lambda r: r.retired,
        "Notice": lambda r: r.dormant,
        "Held": lambda r: r.held,
        "Watched": lambda r: r.watched,
        "Why": lambda r: r.why,
    }
    write(s.sweeps.list(most + 1), output, columns, empty="No sweeps yet.", most=most)


@sweep.command()
@click.argument("sweep_id", type=int)
@change_options
@with_client
def revert(s: Sortitor, sweep_id: int, yes: bool, reason: str | None) -> None:
    """Bring a run's devices back to the stage they had.

    \b
    Example:
      sortitor sweep revert 4
    """
    shown = s.sweeps.preview_revert(sweep_id)
    agree(shown, yes)
    s.sweeps.revert(sweep_id, shown.digest, reason)
    talk(f"Sweep {sweep_id} reverted.")


@click.group()
def hold() -> None:
    """Keep devices, a person's or a cohort's, out of sweeps until a day."""


@hold.command("list")
@click.option("--over", is_flag=True, help="Also those that have ended.")
@most_option
@output_option
@with_client
def list_holds(s: Sortitor, over: bool, most: int, output: str) -> None:
    """List holds, newest first.

    \b
    Example:
      sortitor hold list
    """
    columns = {
        "Id": lambda h: h.id,
        "Keeps": lambda h: h.label,
        "Devices": lambda h: h.devices,
        "State": lambda h: h.state,
        "From": lambda h: h.from_on,
        "Until": lambda h: h.until_on,
        "Owner": lambda h: h.owner,
        "Reason": lambda h: h.reason,
    }
    empty = "No holds. Next: sortitor hold add --id NUMBER --until DAY --reason WHY"
    write(s.holds.list(most + 1, over), output, columns, empty=empty, most=most)


@hold.command()
@named_options
@click.option("--person", help="All devices of this person, later ones too.")
@click.option("--members", help="The members of this cohort, later ones too.")
@click.option("--from", "from_on", type=_DAY, help="Its first day; today where it is not said.")
@until_option("Its last day", required=True)
@click.option("--reason", required=True, help="Why.")
@click.option("--owner", help="Who answers for it; you where it is not said.")
@yes_option
@dry_run_option
@with_client
def add(
    s: Sortitor,
    ids: tuple[int, ...],
    person: str | None,
    members: str | None,
    from_on: datetime | None,
    until: date,
    reason: str,
    owner: str | None,
    yes: bool,
    **given: Any,
) -> None:
    """Hold devices, or all of a person's, or the members of a cohort.

    \b
    Examples:
      sortitor hold add --id 412 --until 2026-04-15 --reason "in repair"
      sortitor hold add --members "Winter ships" --until 2026-04-15 --reason "laid up"
      sortitor hold add --person maud.fenwick --until 2026-06-30 --reason "on leave"
    """
    selection = None
    if person is None and members is None:
        selection = named(s, given, ids)
    elif ids or any(given.values()):
        raise click.UsageError("Name devices, or a person, or a cohort: one of them.")
    wanted = HoldNew(
        selection=selection,
        person=person,
        cohort=members,
        reason=reason,
        from_on=from_on and from_on.date(),
        until_on=until,
        owner=owner,
    )
    shown = s.holds.preview(wanted)
    agree(shown, yes)
    made = s.holds.add(wanted, shown.digest)
    talk(f"Hold {made.id} until {made.until_on}. End it early with: sortitor hold end {made.id}")


@hold.command()
@click.argument("hold_id", type=int)
@click.option("--device", type=int, help="Only for this one of the devices that it names.")
@reason_option
@at_once_option
@with_client
def end(s: Sortitor, hold_id: int, device: int | None, reason: str | None) -> None:
    """End a hold now.

    \b
    Example:
      sortitor hold end 3
    """
    s.holds.end(hold_id, device, reason)
    talk("No longer on hold.")


@click.group()
def erasure() -> None:
    """What was erased, and the certificates that tell of it."""


@erasure.command("list")
@most_option
@output_option
@with_client
def list_erasures(s: Sortitor, most: int, output: str) -> None:
    """List erasures, newest first.

    \b
    Example:
      sortitor erasure list
    """
    columns = {
        "Id": lambda e: e.id,
        "At": lambda e: e.at,
        "By": lambda e: e.by,
        "Devices": lambda e: e.devices,
        "Journal": lambda e: e.entry_id,
    }
    write(s.erasures.list(most + 1), output, columns, empty="Nothing was erased.", most=most)


@erasure.command()
@click.argument("erasure_id", type=int)
@to_option("Where to; else it is shown.", required=False)
@with_client
def certificate(s: Sortitor, erasure_id: int, to: Path | None) -> None:
    """Write the certificate of an erasure: who erased what and when, signed.

    \b
    Example:
      sortitor erasure certificate 3 --to certificate-3.json
    """
    text = json.dumps(s.erasures.certificate(erasure_id), indent=2, ensure_ascii=False)
    if to is None:
        click.echo(text)
        return
    to.write_text(text + "\n")
    written(to)
