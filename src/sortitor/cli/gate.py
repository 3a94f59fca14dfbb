"""`sortitor gate`: policies, and trying an imagined device."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
from pydantic import TypeAdapter, ValidationError

from sortitor.cli.connection import with_client
from sortitor.cli.output import ExitCode, agree, change_options, counted, heading, plain, talk
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Outcome, Ownership, Platform
from sortitor.schemas.gate import Decision, PlatformRule, Policy, Try

_TONES = {"admitted": "good", "parked": "warn", "refused": "bad"}


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


@gate.command()
@click.option(
    "-o",
    "--output",
    type=click.Choice(["table", "json"]),
    default="table",
    show_default=True,
    help="json gives what `gate edit` takes.",
)
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
    """One policy with what it states."""
    whom = "everyone" if policy.groups is None else ", ".join(policy.groups)
    heading(f"{place}. {policy.name} – {whom}")
    for platform, rule in policy.platforms.items():
        plain(f"   {platform.label:<12} {_rule(rule)}")
    for name, words in _facets(policy):
        plain(f"   {name:<12} {words}")


def _rule(rule: PlatformRule) -> str:
    words = ["open" if rule.open else "closed"]
    if rule.os_min:
        words.append(f"from {rule.os_min}")
    if rule.os_max:
        words.append(f"up to {rule.os_max}")
    return " ".join(words)


def _facets(policy: Policy) -> Iterator[tuple[str, str]]:
    if policy.ownerships is not None:
        yield "ownership", ", ".join(policy.ownerships) or "none"
    if policy.quota is not None:
        yield "quota", f"{counted(policy.quota, 'device')} per person"
    if policy.declared_only is not None:
        yield "undeclared", "refused" if policy.declared_only else "may come in"
    if policy.returning is not None:
        yield "returning", policy.returning


@gate.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
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
@click.option(
    "--with",
    "file",
    type=click.Path(exists=True, dir_okay=False, path_type=Path),
    help="Try policies from a file that are not saved.",
)
@with_client
def attempt(s: Sortitor, file: Path | None, **given: Any) -> None:
    """Try an imagined device and read why. Exit code 1 if it would not be admitted.

    \b
    Example:
      sortitor gate try --platform android --os 9 --person maud.fenwick --ownership personal
    """
    decision = s.gate.attempt(Try(**given, policies=tuple(read_policies(file)) if file else None))
    show_decision(decision)
    if decision.outcome is not Outcome.ADMITTED:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def show_decision(decision: Decision) -> None:
    """The outcome, every reason, and the trace."""
    plain(decision.outcome.capitalize(), _TONES[decision.outcome])
    for reason in decision.reasons:
        plain(f"  {reason.explanation}", _TONES[decision.outcome])
        plain(f"    {reason.remedy}   [{reason.code}]")
    heading("Every step")
    for step in decision.trace:
        mark = "✓" if step.passed else "✗"
        plain(f"  {mark} {step.explanation or f'{step.facet}: {step.actual}'}")
