"""`sortitor name`: naming templates and renaming."""

from __future__ import annotations

from typing import Any

import click

from sortitor.cli.connection import connect
from sortitor.cli.devices import as_selection, selection_options
from sortitor.cli.output import agree, change_options, output_option, show_preview, talk, write
from sortitor.core.vocabulary import Platform
from sortitor.schemas.gate import Template

_PLATFORMS = click.Choice([x.value for x in Platform])


@click.group()
def name() -> None:
    """Naming templates, such as {site|upper|first 3}-{n|pad 4}."""


@name.command("list")
@output_option
@click.pass_obj
def list_templates(obj: dict[str, Any], /, output: str) -> None:
    """List the templates in order; the first that fits names a device.

    \b
    Example:
      sortitor name list
    """
    with connect(obj) as s:
        found = s.gate.naming()
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
        f"\nFields: {', '.join(found.fields)}\nNext: sortitor name preview",
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
@click.pass_obj
def edit(
    obj: dict[str, Any],
    /,
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
    made = Template(name=template_name, pattern=pattern, platforms=[Platform(p) for p in platforms])
    with connect(obj) as s:
        templates = list(s.gate.naming().templates)
        places = [i for i, t in enumerate(templates) if t.name == template_name]
        if places:
            templates[places[0]] = made
        else:
            templates.insert(len(templates) - 1, made)
        show_preview(s.gate.preview_names(templates=templates))
        s.gate.save_names(templates, reason)
    talk("Saved for devices to come; nothing was renamed. Next: sortitor name preview")


@name.command()
@click.argument("template_name")
@click.pass_obj
def remove(obj: dict[str, Any], /, template_name: str) -> None:
    """Remove a template; names already given stay.

    \b
    Example:
      sortitor name remove Laptops
    """
    with connect(obj) as s:
        templates = [t for t in s.gate.naming().templates]
        left = [t for t in templates if t.name != template_name]
        if len(left) == len(templates):
            raise click.UsageError(f"There is no template {template_name!r}.")
        s.gate.save_names(left)
    talk("Removed.")


@name.command()
@selection_options
@click.pass_obj
def preview(obj: dict[str, Any], /, **given: Any) -> None:
    """Old → new over the fleet or a part of it: shortened, too long, colliding, lacking a value.

    \b
    Example:
      sortitor name preview --platform windows
    """
    with connect(obj) as s:
        show_preview(s.gate.preview_names(as_selection(given)))


@name.command()
@selection_options
@change_options
@click.pass_obj
def apply(obj: dict[str, Any], /, yes: bool, reason: str | None, **given: Any) -> None:
    """Rename devices by the templates; names given by hand or by a lot stay.

    \b
    Example:
      sortitor name apply --platform windows --reason "new scheme"
    """
    with connect(obj) as s:
        selection = as_selection(given)
        shown = s.gate.preview_names(selection)
        agree(shown, yes)
        s.gate.rename(shown.digest, selection, reason)
    talk("Renamed. Next: sortitor journal list --most 1")
