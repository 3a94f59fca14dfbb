"""Naming templates."""

from __future__ import annotations

from pydantic import ConfigDict, Field

from sortitor.core.naming.templates import Naming as Naming
from sortitor.core.naming.templates import Template as Template
from sortitor.schemas.base import Answer, Apply, ProblemField, Request
from sortitor.schemas.selection import Selection


class NamingDetail(Naming):
    """The templates in force, and where their counters stand."""

    model_config = ConfigDict(extra="ignore")

    revision: int = Field(description="How often they were changed; the ETag of an edit.")
    next_numbers: dict[str, int] = Field(description="Template → what its counter gives next.")
    fields: list[str] = Field(description="What a template may name.")
    filters: list[str] = Field(description="What a field can be put through.")


class NamingSave(Request):
    """The templates as they should be."""

    templates: tuple[Template, ...] = Field(max_length=200)
    reason: str | None = None


class NamingPreview(Request):
    """Names over a selection, by proposed templates or (null) by those in force."""

    selection: Selection = Selection()
    templates: tuple[Template, ...] | None = None


class NamingCheck(Request):
    """Templates while they are written."""

    templates: tuple[Template, ...] = Field(max_length=200)


class NameSample(Answer):
    """What a template would call a device today; without a name, `problem` says why."""

    device_id: int
    subject: str
    name: str | None
    problem: str


class TemplateChecked(Answer):
    """One template: how many devices it is the first to fit, three of them, and its faults."""

    template: str
    devices: int
    samples: list[NameSample]
    problems: list[ProblemField]


class RenameApply(Apply):
    """Rename as previewed, by the templates in force."""

    selection: Selection = Selection()
