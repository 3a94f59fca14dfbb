"""What devices get: the catalogue, items, kits, setup sheets and checklists."""

from __future__ import annotations

from collections.abc import Sequence

from sortitor.client.documents import Documents
from sortitor.client.noun import Key, Noun, at
from sortitor.core.vocabulary import Platform
from sortitor.schemas import kits as k


class Catalogue(Noun):
    """What can be set on a device."""

    def search(
        self, query: str = "", theme: str | None = None, platforms: Sequence[Platform] = ()
    ) -> Sequence[k.CatalogueSetting]:
        """Settings by the beginnings of words, of a theme, known to each of the platforms."""
        params = {"query": query, "theme": theme, "platform": list(platforms)}
        return self._t.call(list[k.CatalogueSetting], "GET", "/catalogue", params=params)


class Items(Documents[k.Item, k.ItemDetail]):
    """Items."""

    path = "/items"
    answer = k.ItemDetail
    model = k.Item

    def getting(self, key: Key) -> k.Getting:
        """Who gets an item, through what."""
        return self._t.call(k.Getting, "GET", at("/items", key, "getting"))


class Kits(Documents[k.Kit, k.KitDetail]):
    """Kits, and what devices get."""

    path = "/kits"
    answer = k.KitDetail
    model = k.Kit

    def of_device(self, device_id: int) -> k.EffectiveKit:
        """What a device gets, or will get, through what, and what was beaten."""
        return self._t.call(k.EffectiveKit, "GET", f"/devices/{device_id}/kit")

    def of_imagined(self, device: k.ImaginedDevice) -> k.EffectiveKit:
        """The same of a device that is not there."""
        return self._t.call(k.EffectiveKit, "POST", "/imagined-kit", json=device)

    def beside(self, cohort: Key) -> k.BesideKit:
        """What every device gets beside what a device of a cohort does."""
        return self._t.call(k.BesideKit, "GET", at("/cohorts", cohort, "kit"))

    def lints(self) -> Sequence[k.KitLint]:
        """What is forgotten or cannot be."""
        return self._t.call(list[k.KitLint], "GET", "/kit-lints")


class SetupSheets(Documents[k.SetupSheet, k.SheetDetail]):
    """Setup sheets."""

    path = "/setup-sheets"
    answer = k.SheetDetail
    model = k.SetupSheet

    def export(self, key: Key) -> k.SheetExport:
        """A sheet as a source carries it, with its digest."""
        return self._t.call(k.SheetExport, "GET", at("/setup-sheets", key, "export"))


class Checklists(Documents[k.Checklist, k.ChecklistDetail]):
    """Checklists."""

    path = "/checklists"
    answer = k.ChecklistDetail
    model = k.Checklist
