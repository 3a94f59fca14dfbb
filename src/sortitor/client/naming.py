"""Naming templates, and renaming."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.documents import if_match
from sortitor.client.noun import Noun
from sortitor.schemas import devices as d
from sortitor.schemas import naming as g
from sortitor.schemas.base import Preview
from sortitor.schemas.documents import Revision
from sortitor.schemas.gate import Saved


class Naming(Noun):
    """Naming templates, and renaming."""

    def show(self) -> g.NamingDetail:
        """The naming templates.

        >>> s.naming.show()
        """
        return self._t.call(g.NamingDetail, "GET", "/naming")

    def check(self, templates: Sequence[g.Template]) -> Sequence[g.TemplateChecked]:
        """What each template would do today: how many devices it names, three of them, faults.

        >>> s.naming.check(templates)
        """
        given = g.NamingCheck(templates=tuple(templates))
        return self._t.whole(g.TemplateChecked, "POST", "/naming/check", json=given)

    def preview(
        self, selection: d.Selection | None = None, templates: Sequence[g.Template] | None = None
    ) -> Preview:
        """Old → new over a selection.

        >>> s.naming.preview()
        """
        given = g.NamingPreview(
            selection=selection or d.Selection(),
            templates=None if templates is None else tuple(templates),
        )
        return self._t.call(Preview, "POST", "/naming/preview", json=given)

    def save(
        self,
        templates: Sequence[g.Template],
        reason: str | None = None,
        revision: int | None = None,
    ) -> int:
        """Save the templates; gives the revision. `revision` must be the one that was read; without
        it whatever is there is changed.

        >>> s.naming.save(templates)
        """
        return self._t.call(
            Saved,
            "POST",
            "/naming/save",
            json=g.NamingSave(templates=tuple(templates), reason=reason),
            headers=if_match(revision),
        ).revision

    def rename(
        self, digest: str, selection: d.Selection | None = None, reason: str | None = None
    ) -> Preview:
        """Rename as previewed.

        >>> s.naming.rename(preview.digest)
        """
        return self._t.call(
            Preview,
            "POST",
            "/naming/apply",
            json=g.RenameApply(selection=selection or d.Selection(), digest=digest, reason=reason),
        )

    def revisions(self) -> Sequence[Revision]:
        """What was changed of it, newest first.

        >>> s.naming.revisions()
        """
        return self._t.whole(Revision, "GET", "/naming/revisions")
