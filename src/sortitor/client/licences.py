"""Licence pools and vouchers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from sortitor.client.documents import Documents
from sortitor.client.noun import at
from sortitor.core.vocabulary import Act
from sortitor.schemas import licences as li
from sortitor.schemas.base import Preview


class Pools(Documents[li.Pool, li.PoolDetail]):
    """Licence pools; a voucher is given as the text in which it came."""

    path = "/pools"
    answer = li.PoolDetail
    model = li.Pool

    def read_voucher(self, text: str) -> li.Voucher:
        """What a voucher is, and which pools it is for.

        >>> s.pools.read_voucher(text)
        """
        return self._t.call(li.Voucher, "POST", "/vouchers/read", json=li.VoucherText(text=text))

    def read_picture(self, picture: bytes) -> str:
        """The voucher in a picture of its code.

        >>> s.pools.read_picture(picture)
        """
        return self._t.call(
            li.VoucherText,
            "POST",
            "/vouchers/picture",
            content=picture,
            headers={"Content-Type": "application/octet-stream"},
        ).text

    def compare(self, key: int | str, text: str) -> li.Comparison:
        """What a voucher would do to a pool, each way.

        >>> s.pools.compare("Display signage", text)
        """
        given = li.VoucherText(text=text)
        return self._t.call(li.Comparison, "POST", at("/pools", key, "compare"), json=given)

    def preview_grant(self, key: int | str, text: str, act: Act) -> Preview:
        """What using a voucher one way would do.

        >>> s.pools.preview_grant("Display signage", text, act)
        """
        given = li.GrantAsked(text=text, act=act)
        return self._t.call(Preview, "POST", at("/pools", key, "grants/preview"), json=given)

    def apply_grant(
        self, key: int | str, text: str, act: Act, digest: str, reason: str | None = None
    ) -> li.Grant:
        """Use a voucher as previewed; its `entry_id` is what takes it back.

        >>> s.pools.apply_grant("Display signage", text, act, preview.digest)
        """
        given = li.GrantApply(text=text, act=act, digest=digest, reason=reason)
        return self._t.call(li.Grant, "POST", at("/pools", key, "grants/apply"), json=given)

    def grants(self, key: int | str) -> Sequence[li.Grant]:
        """The vouchers of a pool, newest first.

        >>> s.pools.grants("Display signage")
        """
        return self._t.whole(li.Grant, "GET", at("/pools", key, "grants"))

    def course(self, key: int | str) -> li.PoolCourse:
        """A pool day by day, and when it turns short.

        >>> s.pools.course("Display signage")
        """
        return self._t.call(li.PoolCourse, "GET", at("/pools", key, "course"))

    def report(self, month: str | None = None) -> li.LicenceReport:
        """A month of every pool, such as `2026-01`.

        >>> s.pools.report()
        """
        params = {"month": month}
        return self._t.call(li.LicenceReport, "GET", "/licences/report", params=params)

    def report_file(self, month: str | None = None, form: Literal["csv", "xlsx"] = "csv") -> bytes:
        """The report as a file.

        >>> s.pools.report_file()
        """
        params = {"month": month, "form": form}
        return self._t.send("GET", "/licences/report/file", params=params).content
