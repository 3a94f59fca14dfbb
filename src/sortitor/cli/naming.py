"""`sortitor name`: naming templates and renaming."""

from __future__ import annotations

from typing import Any

import click

from sortitor.cli.connection import with_client
from sortitor.cli.devices import as_selection, selection_options
from sortitor.cli.output import agree, change_options, output_option, show_preview, talk, write
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
        "Counter": lambda t: found.next_numbers.get(t.name),
    }
    write(
        found.templates,
        output,
        columns,
        hint=f"Fields: {', '.join(found.fields)}\nNext: sortitor name preview",
        below=["Pattern"],
    )


@name.command()
@click.argument("template_name")
@click.argument("pattern")
@click.option(
    "--platform",
    "platforms",
    multiple=True,
    type=_PLATFORMS,
    help="Only these platforms; repeatable.",
)
@click.option("--reason", help="Why, for the journal.")
@with_client
def edit(
    s: Sortitor,
    template_name: str,
    pattern: str,
    platforms: tuple[str, ...],
    reason: str | None,
) -> None:
    """Add a template, or change the one of that name. New ones go before the last, which catches
    the rest.

    \b
    Example:
      sortitor name edit Laptops "WL-{site|upper|letters|first 3}-{serial|last 6}"
    """
    made = Template(name=template_name, pattern=pattern, platforms=tuple(map(Platform, platforms)))
    templates = list(s.naming.show().templates)
    places = [i for i, t in enumerate(templates) if t.name == template_name]
    if places:
        templates[places[0]] = made
    else:
        templates.insert(len(templates) - 1, made)
    show_preview(s.naming.preview(templates=templates))
    s.naming.save(templates, reason)
    talk("Saved for devices to come; nothing was renamed. Next: sortitor name preview")


@name.command()
@click.argument("template_name")
@with_client
def remove(s: Sortitor, template_name: str) -> None:
    """Remove a template; names already given stay.

    \b
    Example:
      sortitor name remove Laptops
    """
    templates = s.naming.show().templates
    left = [t for t in templates if t.name != template_name]
    if len(left) == len(templates):
        raise click.UsageError(f"There is no template {template_name!r}.")
    s.naming.save(left)
    talk("Removed.")


@name.command()
@selection_options
@with_client
def preview(s: Sortitor, **given: Any) -> None:
    """Old → new over the fleet or a part of it: shortened, too long, colliding, lacking a value.

    \b
    Example:
      sortitor name preview --platform windows
    """
    show_preview(s.naming.preview(as_selection(s, given)))


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
