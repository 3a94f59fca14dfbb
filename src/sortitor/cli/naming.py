"""`sortitor name`: naming templates and renaming."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import click

from sortitor.cli.choosing import as_selection, selection_options
from sortitor.cli.connection import with_client
from sortitor.cli.output import (
    agree,
    change_options,
    is_data,
    output_option,
    show_preview,
    talk,
    write,
)
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Platform
from sortitor.schemas.naming import Template

_PLATFORMS = click.Choice([x.value for x in Platform])


@click.group()
def name() -> None:
    """Naming templates, such as {site|upper|first 3}-{n|pad 4}."""


@name.command("list")
@output_option
@with_client
def list_templates(s: Sortitor, output: str) -> None:
    """List the templates in order; the first that fits names a device.

    \b
    Example:
      sortitor name list
    """
    found = s.naming.show()
    columns = {
        "Template": lambda t: t.name,
        "Pattern": lambda t: t.pattern,
        "Platforms": lambda t: t.platforms or "all",
        "Devices": lambda t: t.devices or "all",
        "Counter": lambda t: found.next_numbers.get(t.name),
    }
    write(
        found.templates,
        output,
        columns,
        hint=f"Fields: {', '.join(found.fields)}\nNext: sortitor name preview",
        below=["Pattern", "Devices"],
    )


@name.command()
@click.argument("template_name")
@click.argument("pattern", required=False)
@click.option(
    "--platform",
    "platforms",
    multiple=True,
    type=_PLATFORMS,
    help="Only these platforms; repeatable.",
)
@click.option("--all-platforms", is_flag=True, help="Every platform again.")
@click.option("--devices", metavar="FILTER", help="Only devices that fit; '' for all again.")
@change_options
@with_client
def edit(
    s: Sortitor,
    template_name: str,
    pattern: str | None,
    platforms: tuple[str, ...],
    all_platforms: bool,
    devices: str | None,
    yes: bool,
    reason: str | None,
) -> None:
    """Add a template, or change what is named of the one of that name. New ones go before the
    last, which catches the rest.

    \b
    Examples:
      sortitor name edit Laptops "WL-{site|upper|letters|first 3}-{serial|last 6}"
      sortitor name edit Laptops --platform windows
      sortitor name edit Crew "CREW-{person}" --devices 'person.groups eq "Crew"'
    """
    found = s.naming.show()
    templates = list(found.templates)
    places = [i for i, t in enumerate(templates) if t.name == template_name]
    changes: dict[str, Any] = {"pattern": pattern} if pattern else {}
    if platforms or all_platforms:
        changes["platforms"] = tuple(map(Platform, platforms))
    if devices is not None:
        changes["devices"] = devices.strip() or None
    if not changes:
        raise click.UsageError("Name what is to be changed; see --help.")
    if places:
        former = templates[places[0]]
        templates[places[0]] = Template.model_validate({**former.model_dump(), **changes})
    elif pattern is None:
        raise click.UsageError(f"There is no template {template_name!r}; a new one has a pattern.")
    else:
        made = Template.model_validate({"name": template_name, **changes})
        templates.insert(len(templates) - 1, made)
    _save(s, templates, found.revision, yes, reason)


def _save(
    s: Sortitor, templates: Sequence[Template], revision: int, yes: bool, reason: str | None
) -> None:
    """Save the templates as they were read and changed, once their effect was looked at."""
    shown = s.naming.preview(templates=templates)
    for one in s.naming.check(templates):
        called = ", ".join(f"{x.subject} → {x.name or x.problem}" for x in one.samples)
        fits = f"{one.template}: fits {one.devices:,} devices"
        talk(f"{fits}, such as {called}" if called else fits)
    agree(shown, yes, "Save these templates?")
    s.naming.save(templates, reason, revision)
    talk("Saved for devices to come; nothing was renamed. Next: sortitor name apply")


@name.command()
@click.argument("template_name")
@change_options
@with_client
def remove(s: Sortitor, template_name: str, yes: bool, reason: str | None) -> None:
    """Remove a template; names already given stay.

    \b
    Example:
      sortitor name remove Laptops
    """
    found = s.naming.show()
    left = [t for t in found.templates if t.name != template_name]
    if len(left) == len(found.templates):
        raise click.UsageError(f"There is no template {template_name!r}.")
    _save(s, left, found.revision, yes, reason)


@name.command()
@selection_options
@output_option
@with_client
def preview(s: Sortitor, output: str, **given: Any) -> None:
    """Old → new over the fleet or a part of it: shortened, too long, colliding, lacking a value.

    \b
    Example:
      sortitor name preview --platform windows
    """
    found = s.naming.preview(as_selection(s, given))
    if is_data(found, output):
        return
    show_preview(found)


@name.command()
@selection_options
@change_options
@with_client
def apply(s: Sortitor, yes: bool, reason: str | None, **given: Any) -> None:
    """Rename devices by the templates; names given by hand or by a lot stay.

    \b
    Example:
      sortitor name apply --platform windows --reason "new scheme"
    """
    selection = as_selection(s, given)
    shown = s.naming.preview(selection)
    agree(shown, yes)
    s.naming.rename(shown.digest, selection, reason)
    talk("Renamed. Next: sortitor journal list --most 1")
