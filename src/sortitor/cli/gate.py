"""`sortitor gate`: policies, and trying an imagined device."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click
from pydantic import TypeAdapter, ValidationError

from sortitor.cli.connection import connect
from sortitor.cli.output import ExitCode, agree, change_options, heading, plain, talk
from sortitor.core.vocabulary import Outcome, Ownership, Platform
from sortitor.schemas.gate import Decision, Policy, Try

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
@click.pass_obj
def show(obj: dict[str, Any], /, output: str) -> None:
    """Show the policies in order; each facet is taken from the first that states it.

    \b
    Example:
      sortitor gate show -o json > gate.json
    """
    with connect(obj) as s:
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
        heading(
            f"{place}. {policy.name} –"
            f" {'everyone' if policy.groups is None else ', '.join(policy.groups)}"
        )
        for platform, rule in policy.platforms.items():
            bounds = " ".join(
                filter(
                    None,
                    (
                        f"from {rule.os_min}" if rule.os_min else "",
                        f"up to {rule.os_max}" if rule.os_max else "",
                    ),
                )
            )
            plain(f"   {platform:<12} {'open' if rule.open else 'closed'} {bounds}")
        facets = [
            ("ownership", ", ".join(policy.ownerships) if policy.ownerships is not None else None),
            ("quota", policy.quota and f"{policy.quota} devices per person"),
            (
                "undeclared",
                (
                    None
                    if policy.declared_only is None
                    else "refused"
                    if policy.declared_only
                    else "may come in"
                ),
            ),
            ("returning", policy.returning),
        ]
        for name, value in facets:
            if value is not None:
                plain(f"   {name:<12} {value}")
    talk(
        "\nNext: sortitor gate try --platform android --os 13    or: sortitor gate show -o json >"
        " gate.json"
    )


@gate.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@change_options
@click.pass_obj
def edit(obj: dict[str, Any], /, file: Path, yes: bool, reason: str | None) -> None:
    """Save the gate from a JSON file, after showing whom of today's fleet it would meet otherwise.

    \b
    Example:
      sortitor gate edit gate.json --reason "old tablets out by spring"
    """
    policies = read_policies(file)
    with connect(obj) as s:
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
@click.pass_obj
def attempt(obj: dict[str, Any], /, file: Path | None, **given: Any) -> None:
    """Try an imagined device and read why. Exit code 1 if it would not be admitted.

    \b
    Example:
      sortitor gate try --platform android --os 9 --person maud.fenwick --ownership personal
    """
    with connect(obj) as s:
        decision = s.gate.attempt(Try(**given, policies=read_policies(file) if file else None))
    show_decision(decision)
    if decision.outcome is not Outcome.ADMITTED:
        raise click.exceptions.Exit(ExitCode.FINDINGS)


def show_decision(decision: Decision) -> None:
    """The outcome, every reason, and the trace."""
    plain(decision.outcome.upper(), _TONES[decision.outcome])
    for reason in decision.reasons:
        plain(
            f"  {reason.code}: “{reason.policy}” wants {reason.wanted}; it is {reason.actual}.",
            "bad",
        )
        plain(f"      {reason.remedy}")
    heading("Trace")
    for step in decision.trace:
        plain(
            f"  {'✓' if step.passed else '✗'} {step.facet:<18} {step.policy:<28} wants"
            f" {step.wanted}; is {step.actual}",
            "plain" if step.passed else "bad",
        )
