"""What the commands of items, kits, sheets and checklists have in common: to whom something is
given, for which platforms, through what.
"""

from __future__ import annotations

from typing import Any

import click

from sortitor.core.vocabulary import GivenAs, Platform
from sortitor.schemas import kits as k

#: What `--give` takes.
GIVEN_FORM = "COHORT[=WORD]"


def given_to(text: str) -> k.Given:
    """`Deck phones=offered`: a cohort (or `everyone`) with a word."""
    name, _, word = text.rpartition("=") if "=" in text else (text, "", GivenAs.REQUIRED.value)
    if word not in [one.value for one in GivenAs]:
        known = ", ".join(one.value for one in GivenAs)
        raise click.BadParameter(f"{word!r} is none of {known}.", param_hint="--give")
    return k.Given(cohort=None if name == "everyone" else name, word=GivenAs(word))


def givings(document: Any) -> list[str]:
    """To whom a document is given, each with its word."""
    return [f"{given.cohort or 'everyone'}: {given.word}" for given in document.given]


def platform_of(text: str) -> tuple[str, str]:
    """`ios=15`: a platform with the least version, which may be left out."""
    name, _, least = text.partition("=")
    if name not in [one.value for one in Platform]:
        known = ", ".join(one.value for one in Platform)
        raise click.BadParameter(
            f"{name!r} is no platform; there are {known}.", param_hint="--platform"
        )
    return name, least


def versions(platforms: Any) -> list[str]:
    """Platforms, each with the least version where there is one."""
    return [f"{Platform(p).label} {least}".strip() for p, least in sorted(platforms.items())]


def through(one: k.Through) -> str:
    """By what a device gets something, in words."""
    what = "itself" if one.kind == "item" else f"{one.kind} “{one.name}”"
    where = "from" if one.word is GivenAs.EXCLUDED else "for"
    return f"{what}, {one.word} {where} {one.cohort or 'everyone'}"


#: What nouns that are given have in common.
COMMON: dict[str, Any] = {"readers": {"given": given_to}, "metavars": {"given": GIVEN_FORM}}
#: Fields that are given several times, and the option of one.
OPTIONS = {"given": "--give", "items": "--item", "skipped": "--skip"}
