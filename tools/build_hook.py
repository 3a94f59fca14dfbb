"""A wheel carries the console and the handbook: without them it is not made."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

_BUILT = {
    "src/sortitor/api/static/index.html": "make console",
    "src/sortitor/api/static/licences.md": "make console",
    "src/sortitor/api/handbook/index.html": "make docs",
}


class CustomBuildHook(BuildHookInterface):  # type: ignore[type-arg]
    """Looks before a wheel or a source distribution is made; an editable one needs none."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Raise FileNotFoundError for what was not built."""
        if version == "editable":
            return
        for file, command in _BUILT.items():
            if not (Path(self.root) / file).exists():
                raise FileNotFoundError(
                    f"{file} is not built; run `{command}` first. A wheel without it would serve"
                    " no pages."
                )
