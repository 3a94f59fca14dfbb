"""Devices: selections compiled to SQL, lists by key, one device with all its facts, and the one
door for changing them.
"""

from sortitor.store.devices.change import (
    PATCHABLE,
    apply_patch_table,
    apply_patches,
    merge_devices,
    patch_one,
)
from sortitor.store.devices.lists import LineRow, ShortRow, page, some, table
from sortitor.store.devices.read import (
    DeviceRow,
    IdentifierRow,
    InCohortRow,
    cohorts_of,
    identifiers_of,
    name_is_free,
    names_in_use,
    naming_facts,
    one,
    selected_facts,
)
from sortitor.store.devices.select import (
    CHOICES,
    PersonalAmong,
    an_identifier,
    count,
    counts,
    facet_counts,
    find,
    ids,
    matching,
    personal_among,
    unknown_identifiers,
    values_of,
)

__all__ = [
    "CHOICES",
    "PATCHABLE",
    "DeviceRow",
    "IdentifierRow",
    "InCohortRow",
    "LineRow",
    "PersonalAmong",
    "ShortRow",
    "",
    "an_identifier",
    "apply_patch_table",
    "apply_patches",
    "cohorts_of",
    "count",
    "counts",
    "facet_counts",
    "find",
    "identifiers_of",
    "ids",
    "matching",
    "merge_devices",
    "name_is_free",
    "names_in_use",
    "naming_facts",
    "one",
    "page",
    "patch_one",
    "personal_among",
    "selected_facts",
    "some",
    "table",
    "unknown_identifiers",
    "values_of",
]
