"""`sortitor gate`: policies, and trying an imagined device."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import date
from pathlib import Path
from typing import Any

import click
from pydantic import TypeAdapter, ValidationError

from sortitor.cli.connection import Command, with_client
from sortitor.cli.dates import until_option
from sortitor.cli.output import (
    ExitCode,
    InFile,
    agree,
    change_options,
    counted,
    form_of,
    form_option,
    heading,
    is_data,
    output_option,
    plain,
    talk,
    to_option,
    write,
    write_one,
    written,
)
from sortitor.cli.tables import Columns
from sortitor.client import Sortitor
from sortitor.core.errors import BadInput
from sortitor.core.gate import FORMS, restated, statement_said, statements, typed
from sortitor.core.vocabulary import Facet, Outcome, Ownership, Platform
from sortitor.core.words import LABELS
from sortitor.schemas.gate import Decision, EffectiveAsked, Policy, Replay, Replayed, Try

_TONES = {"admitted": "good", "parked": "warn", "refused": "bad", "asked": "plain"}


@click.group()
def gate() -> None:
    """Which devices may come in."""


def read_policies(file: Path) -> list[Policy]:
    """Policies from a JSON file. Raises a usage error that names the place of a fault."""
    try:
        return TypeAdapter(list[Policy]).validate_json(file.read_bytes())
    except ValidationError as error:
        faults = "; ".join(
            f"/{'/'.join(map(str, fault['loc']))}: {fault['msg']}" for fault in error.errors()[:5]
        )
        raise click.UsageError(f"{file}: {faults}") from error


policies_option = click.option(
    "--with",
    "file",
    type=InFile(),
    help="Policies from a JSON file that are not saved, instead of those in force.",
)


@gate.command()
@form_option("json gives what `gate edit` takes.")
@with_client
def show(s: Sortitor, output: str) -> None:
    """Show the policies in order; each facet is taken from the first that states it.

    \b
    Example:
      sortitor gate show -o json > gate.json
    """
    found = s.gate.show()
    if output == "json":
        click.echo(
            json.dumps(
                [p.model_dump(mode="json", exclude_none=True) for p in found.policies],
                indent=2,
                ensure_ascii=False,
            )
        )
        return
    for place, policy in enumerate(found.policies, start=1):
        _show_policy(place, policy)
    talk(
        "\nNext: sortitor gate try --platform android --os 13    or: sortitor gate show -o json >"
        " gate.json"
    )


def _show_policy(place: int, policy: Policy) -> None:
    """One policy with what it states, for all platforms first."""
    heading(f"{place}. {policy.name} – {_audience(policy)}")
    if policy.note:
        plain(f"   {policy.note}")
    lines: dict[str, list[str]] = {}
    for statement in statements(policy):
        whose = statement.platform.label if statement.platform else "All platforms"
        words = f"{LABELS[Facet][statement.facet]}: {statement_said(statement)}"
        lines.setdefault(whose, []).append(words)
    for whose, words_of in lines.items():
        plain(f"   {whose:<14} {'; '.join(words_of)}")


def _audience(policy: Policy) -> str:
    """Whom a policy holds."""
    if policy.holds_everyone:
        return "everyone"
    words = []
    if policy.groups:
        words.append(f"people in {' or '.join(policy.groups)}")
    if policy.people:
        words.append(", ".join(policy.people))
    if policy.devices:
        words.append(f"devices with {policy.devices}")
    ends = f" until {policy.until}" if policy.until else ""
    return f"{'; '.join(words) or 'nobody'}{ends}"


@gate.command()
@click.argument("file", type=InFile())
@change_options
@with_client
def edit(s: Sortitor, file: Path, yes: bool, reason: str | None) -> None:
    """Save the gate from a JSON file, after showing whom of today's fleet it would meet otherwise.

    \b
    Example:
      sortitor gate edit gate.json --reason "old tablets out by spring"
    """
    policies = read_policies(file)
    preview = s.gate.preview(policies)
    agree(preview, yes)
    s.gate.apply(policies, preview.digest, reason)
    talk("Saved. Next: sortitor gate show")


def _facet_arguments(command: Command) -> Command:
    """Which word of which policy is meant."""
    facet = click.argument("facet", type=click.Choice([one.value for one in Facet]))
    platform = click.option(
        "--platform",
        type=click.Choice([one.value for one in Platform]),
        help="Say it of this platform alone.",
    )
    return click.argument("policy")(facet(platform(command)))


_FORMS = "\n".join(f"  {facet.value:<14} {form}" for facet, form in FORMS.items())


@gate.command(
    "set",
    help=f"""Say something else of one facet in a policy, with preview.

\b
What a facet takes:
{_FORMS}

\b
Examples:
  sortitor gate set Baseline versions 12.. --platform android
  sortitor gate set Officers quota "2 corporate, partner"
""",
)
@_facet_arguments
@click.argument("value")
@change_options
@with_client
def set_facet(
    s: Sortitor, policy: str, facet: str, value: str, platform: str | None, **given: Any
) -> None:
    with told_as_usage():
        _restate(s, policy, Facet(facet), platform, typed(Facet(facet), value), **given)


@gate.command("add")
@click.argument("policy")
@click.option("--group", "groups", multiple=True, help="People in this group; repeatable.")
@click.option("--person", "people", multiple=True, help="One person, by user name; repeatable.")
@click.option("--devices", "filter_text", help="Devices that fit this filter.")
@until_option("The last day on which it counts")
@click.option("--note", help="Why it is there.")
@click.option(
    "--say",
    "words",
    metavar="FACET=VALUE",
    multiple=True,
    required=True,
    help="What it states, as in `gate set`; repeatable.",
)
@change_options
@with_client
def add_policy(
    s: Sortitor,
    policy: str,
    groups: tuple[str, ...],
    people: tuple[str, ...],
    filter_text: str | None,
    until: date | None,
    note: str | None,
    words: tuple[str, ...],
    yes: bool,
    reason: str | None,
) -> None:
    """Add a policy before all others, with preview. It ends by itself where a day is given.

    \b
    Example:
      sortitor gate add "Refit" --group Officers --say quota=5 --until 2026-02-28
    """
    added = Policy(
        name=policy,
        note=note,
        groups=groups or None,
        people=people or None,
        devices=filter_text,
        until=until,
    )
    policies = [added, *s.gate.show().policies]
    with told_as_usage():
        for text in words:
            facet, sign, value = text.partition("=")
            if not sign or facet not in list(Facet):
                raise click.UsageError(f"{text!r} is not FACET=VALUE, such as quota=5.")
            policies = restated(policies, policy, Facet(facet), None, typed(Facet(facet), value))
    preview = s.gate.preview(policies)
    agree(preview, yes)
    s.gate.apply(policies, preview.digest, reason)
    talk("Saved. Next: sortitor gate show")


@gate.command("unset")
@_facet_arguments
@change_options
@with_client
def unset_facet(s: Sortitor, policy: str, facet: str, platform: str | None, **given: Any) -> None:
    """Let a policy say nothing of a facet: the next policy has the word, with preview.

    \b
    Example:
      sortitor gate unset Officers quota
    """
    with told_as_usage():
        _restate(s, policy, Facet(facet), platform, None, **given)


@contextmanager
def told_as_usage() -> Iterator[None]:
    """What was typed wrongly is told as click tells it."""
    try:
        yield
    except BadInput as error:
        raise click.UsageError(f"{error.detail} {error.remedy or ''}".strip()) from error


def _restate(
    s: Sortitor,
    policy: str,
    facet: Facet,
    platform: str | None,
    value: Any,
    yes: bool,
    reason: str | None,
) -> None:
    on = Platform(platform) if platform else None
    policies = restated(s.gate.show().policies, policy, facet, on, value)
    preview = s.gate.preview(policies)
    agree(preview, yes)
    s.gate.apply(policies, preview.digest, reason)
    talk("Saved. Next: sortitor gate show")


@gate.command("try")
@click.option(
    "--platform",
    type=click.Choice([x.value for x in Platform]),
    required=True,
    help="What it runs.",
)
@click.option("--os", "os_version", help="Its OS version.")
@click.option(
    "--ownership",
    type=click.Choice([x.value for x in Ownership]),
    help="Whose it is declared to be.",
)
@click.option("--person", help="Who holds it.")
@click.option("--identifier", help="The serial number or IMEI of a real device.")
@click.option("--maker", help="Who made it.")
@click.option("--model", help="Which model it is.")
@policies_option
@output_option
@with_client
def attempt(s: Sortitor, file: Path | None, output: str, **given: Any) -> None:
    """Try an imagined device and read why. Exit code 1 if it would not be admitted.

    \b
    Example:
      sortitor gate try --platform android --os 9 --person maud.fenwick --ownership personal
    """
    decision = s.gate.attempt(Try(**given, policies=tuple(read_policies(file)) if file else None))
    if not is_data(decision, output):
        show_decision(decision)
    if decision.outcome is not Outcome.ADMITTED:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


@gate.command("effective")
@click.option("--person", help="User name or mail.")
@click.option("--group", help="Somebody who is in this group only.")
@click.option("--device", help="The serial number or IMEI of a device that is known.")
@policies_option
@output_option
@with_client
def show_effective(
    s: Sortitor,
    person: str | None,
    group: str | None,
    device: str | None,
    file: Path | None,
    output: str,
) -> None:
    """Show what counts for a person, a group or a device, and which policy says it.

    \b
    Examples:
      sortitor gate effective --person maud.fenwick
      sortitor gate effective --group Officers --with gate.json
    """
    policies = tuple(read_policies(file)) if file else None
    asked = EffectiveAsked(person=person, group=group, device=device, policies=policies)
    found = s.gate.effective(asked)
    if is_data(found, output):
        return
    plain(f"For {found.subject}: {', '.join(found.policies)}")
    columns: Columns = {
        "Question": lambda line: LABELS[Facet][line.facet],
        "Platform": lambda line: line.platform.label if line.platform else "all",
        "Answer": lambda line: line.words,
        "Policy": lambda line: line.policy,
    }
    write(found.statements, "table", columns, empty="Nothing.")
    talk("\nNext: sortitor gate try --platform android --os 13")


@gate.command()
@click.argument("file", type=InFile())
@click.option(
    "--of",
    type=click.Choice(["fleet", "arrivals"]),
    default="fleet",
    show_default=True,
    help="Of which the list is: today's devices, or the arrivals of the last 90 days.",
)
@click.option(
    "--outcome", type=click.Choice([x.value for x in Outcome]), help="Only what turns to this."
)
@click.option("--because", "reason_code", help="Only what has this reason, by its code.")
@to_option("Write the whole list to a .csv or .xlsx file.", required=False)
@click.option("--list", "listed", is_flag=True, help="Show the list.")
@output_option
@with_client
def replay(
    s: Sortitor,
    file: Path,
    of: str,
    outcome: str | None,
    reason_code: str | None,
    to: Path | None,
    listed: bool,
    output: str,
) -> None:
    """See what policies from a JSON file would have said to today's fleet and to the arrivals of
    the last 90 days as they were then. Nothing is written; exit code 1 if anything would differ.

    \b
    Examples:
      sortitor gate replay gate.json
      sortitor gate replay gate.json --list --of arrivals --outcome refused
      sortitor gate replay gate.json --to refused.xlsx --outcome refused
    """
    policies = read_policies(file)
    wanted = Outcome(outcome) if outcome else None
    if to is not None:
        to.write_bytes(s.gate.replay_file(policies, of, form_of(to), wanted, reason_code))
        written(to)
        return
    if listed:
        rows = s.gate.replayed(policies, of, wanted, reason_code)
        write(rows, output, _TURNED, empty="None.", most=50)
        return
    found = s.gate.replay(policies)
    if output != "table":
        write_one(found, output)
    else:
        _tell_replayed(s, policies, found)
        talk(f"\nNext: sortitor gate replay {file} --list    or: sortitor gate edit {file}")
    if found.fleet.tallies or found.arrivals.tallies:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def _tell_replayed(s: Sortitor, policies: Sequence[Policy], found: Replay) -> None:
    _show_replayed("Today's fleet", "devices in use", found.fleet)
    _show_replayed(f"The last {found.days} days", "arrivals", found.arrivals)
    if found.without_facts:
        talk(f"{counted(found.without_facts, 'arrival')} too old to be looked at.")
    for remark in s.gate.check(policies):
        plain(f"! {remark.detail}", "warn")


_TURNED: Columns = {
    "Id": lambda row: row.id,
    "What": lambda row: row.subject,
    "Person": lambda row: row.person,
    "Now": lambda row: row.before,
    "Then": lambda row: row.after,
    "Why": lambda row: row.explanation,
}


def _show_replayed(title: str, what: str, found: Replayed) -> None:
    heading(f"{title}: {found.looked_at:,} {what}")
    if not found.tallies:
        plain("  Nothing would differ.")
    for tally in found.tallies:
        tone = _TONES[tally.outcome]
        plain(f"  {tally.number:>9,}  {tally.outcome:<9} {tally.explanation}", tone)
        plain(f"             [{tally.code}]")


def show_decision(decision: Decision) -> None:
    """The outcome, every reason, and the trace."""
    if decision.depends:
        plain(decision.depends, "warn")
    else:
        plain(decision.outcome.capitalize(), _TONES[decision.outcome])
    for reason in decision.reasons:
        plain(f"  {reason.explanation}", _TONES[decision.outcome])
        plain(f"    {reason.remedy}   [{reason.code}]")
    heading("Every step")
    for step in decision.trace:
        mark = "✓" if step.passed else "✗"
        plain(f"  {mark} {step.explanation or f'{step.facet}: {step.actual}'}")
