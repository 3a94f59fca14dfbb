"""`sortitor setting` and `own-setting`: what can be set on a device."""

from __future__ import annotations

from collections.abc import Sequence

import click

from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.giving import platform_of, versions
from sortitor.cli.output import most_option, output_option, record, write
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Platform
from sortitor.schemas import kits as k


@click.group()
def setting() -> None:
    """The catalogue of what can be set on a device."""


@click.group()
def own_setting() -> None:
    """Settings that the organisation adds to the catalogue."""


_platforms = click.option(
    "--platform",
    "platforms",
    multiple=True,
    type=click.Choice([one.value for one in Platform]),
    help="Known to this platform; repeatable.",
)


@setting.command("list")
@click.argument("query", default="")
@click.option("--theme", help="Only this theme.")
@_platforms
@most_option
@output_option
@with_client
def list_settings(
    s: Sortitor, query: str, theme: str | None, platforms: Sequence[str], most: int, output: str
) -> None:
    """List what can be set; of what was typed, the nearest first.

    \b
    Examples:
      sortitor setting list camera
      sortitor setting list --theme "screen lock" --platform ios
    """
    found = s.catalogue.search(query, theme, [Platform(one) for one in platforms])
    write(
        found,
        output,
        {
            "Key": lambda one: one.key,
            "Setting": lambda one: one.name,
            "Theme": lambda one: one.theme,
            "Value": lambda one: one.form,
            "Platforms": _known_to,
            "Effect": lambda one: one.says,
        },
        hint=f"Next: sortitor item add NAME --what setting:{found[0].key}=VALUE" if found else "",
        empty="Nothing like that can be set.",
        most=most,
        below=["Effect"],
    )


def _known_to(one: k.CatalogueSetting) -> list[str]:
    return versions(one.platforms)


def _choice(text: str) -> tuple[str, str]:
    """`night=at night`: a value with its words."""
    value, _, words = text.partition("=")
    return value, words or value


def _own_detail(s: Sortitor, found: k.OwnSettingDetail) -> None:
    record(
        [
            ("Setting", f"{found.id}  {found.name}"),
            ("Key", found.key),
            ("Theme", found.theme),
            ("What it does", found.says),
            ("Sent as", found.sends),
            ("Platforms", versions(found.platforms)),
            ("Value", found.type),
            ("From", found.least),
            ("To", found.most),
            ("Unit", found.unit),
            ("Choices", list(found.choices.values()) or None),
        ]
    )


add_commands(
    Noun(
        group=own_setting,
        word="setting of your own",
        many="settings of your own",
        calls=lambda s: s.own_settings,
        model=k.OwnSetting,
        columns={
            "Id": lambda one: one.id,
            "Setting": lambda one: one.name,
            "Key": lambda one: one.key,
            "Value": lambda one: one.type,
            "Platforms": lambda one: versions(one.platforms),
            "Effect": lambda one: one.says,
        },
        options={"platforms": "--platform", "choices": "--choice"},
        readers={"platforms": platform_of, "choices": _choice},
        gather={"platforms": dict, "choices": dict},
        metavars={"platforms": "PLATFORM[=VERSION]", "choices": "VALUE=WORDS"},
        detail=_own_detail,
        after=lambda made: f"sortitor item add NAME --what setting:{made.key}=VALUE",
        empty="None yet: the catalogue is as it came. Next: sortitor own-setting add NAME",
        below=["Effect"],
        examples={
            "list": "sortitor own-setting list",
            "show": 'sortitor own-setting show "Ship’s horn"',
            "add": 'sortitor own-setting add "Ship’s horn" --key horn --says "How loud it is."'
            " --sends org.horn.level --platform android --type number --least 0 --most 9"
            " --unit steps",
            "edit": 'sortitor own-setting edit "Ship’s horn" --says "How loud the horn is."',
            "remove": 'sortitor own-setting remove "Ship’s horn"',
            "revisions": 'sortitor own-setting revisions "Ship’s horn"',
        },
    )
)
