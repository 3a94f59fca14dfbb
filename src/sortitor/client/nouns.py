"""The calls, grouped by noun; one method a call."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from pathlib import Path
from typing import Any

from sortitor.client.errors import job_problem
from sortitor.client.transport import Transport
from sortitor.core.vocabulary import (
    JobState,
    LotStatus,
    Outcome,
    Ownership,
    Platform,
    Purpose,
    Remedy,
    Role,
    Verdict,
)
from sortitor.schemas import accounts as a
from sortitor.schemas import arrivals as r
from sortitor.schemas import cohorts as co
from sortitor.schemas import devices as d
from sortitor.schemas import gate as g
from sortitor.schemas import jobs as jb
from sortitor.schemas import journal as j
from sortitor.schemas import licences as li
from sortitor.schemas import lots as lo
from sortitor.schemas import orders as od
from sortitor.schemas import people as p
from sortitor.schemas import sweeps as s
from sortitor.schemas.base import Apply, Preview, Reason

_ASYNC = {"Prefer": "respond-async"}
_LOOK_EVERY_SECONDS = 0.3


class _Noun:
    def __init__(self, transport: Transport) -> None:
        self._t = transport


class Accounts(_Noun):
    """Signing in, accounts and tokens."""

    def sign_in(self, name: str, password: str) -> a.Me:
        """Sign in with a password; the session lasts as long as this client."""
        self._t.http.headers["X-Sortitor-Console"] = "client"
        return self._t.call(a.Me, "POST", "/session", json={"name": name, "password": password})

    def me(self) -> a.Me:
        """Who is signed in."""
        return self._t.call(a.Me, "GET", "/session")

    def sign_out(self) -> None:
        """End the session."""
        self._t.send("DELETE", "/session")

    def first(self, secret: str, name: str, password: str) -> a.Me:
        """Make the first administrator with the one-time secret."""
        return self._t.call(
            a.Me, "POST", "/setup", json={"secret": secret, "name": name, "password": password}
        )

    def list(self) -> Sequence[a.Account]:
        """All accounts."""
        return self._t.call(list[a.Account], "GET", "/accounts")

    def add(self, name: str, password: str, role: Role) -> a.Me:
        """Add an account."""
        return self._t.call(
            a.Me, "POST", "/accounts", json={"name": name, "password": password, "role": role}
        )

    def edit(self, account_id: int, **changes: Any) -> None:
        """Change `role`, `password` or `disabled`."""
        self._t.send("PATCH", f"/accounts/{account_id}", json=changes)

    def tokens(self) -> Sequence[a.Token]:
        """Your living tokens."""
        return self._t.call(list[a.Token], "GET", "/tokens")

    def add_token(
        self, name: str, role: Role, days: int = 90, purpose: Purpose = Purpose.INTERFACE
    ) -> a.TokenSecret:
        """Make a token; the secret is given this once."""
        return self._t.call(
            a.TokenSecret,
            "POST",
            "/tokens",
            json=a.TokenNew(name=name, role=role, days=days, purpose=purpose),
        )

    def revoke_token(self, token_id: int) -> None:
        """Revoke one of your tokens."""
        self._t.send("DELETE", f"/tokens/{token_id}")


class People(_Noun):
    """People and groups."""

    def preview_import(self, path: Path, complete: bool = False) -> Preview:
        """What a CSV of people would change. `complete`: it names everybody, so whom it does not
        name has left.
        """
        return self._t.call(
            Preview,
            "POST",
            "/people/imports/preview",
            content=path.read_bytes(),
            params={"complete": complete},
            headers={"Content-Type": "text/csv"},
        )

    def apply_import(
        self, path: Path, digest: str, reason: str | None = None, complete: bool = False
    ) -> Preview:
        """Import the people as previewed."""
        params: dict[str, Any] = {"digest": digest, "complete": complete} | (
            {"reason": reason} if reason else {}
        )
        return self._t.call(
            Preview,
            "POST",
            "/people/imports/apply",
            content=path.read_bytes(),
            params=params,
            headers={"Content-Type": "text/csv"},
        )

    def list(
        self, query: str | None = None, group: str | None = None, most: int | None = None
    ) -> Iterator[p.Person]:
        """People by number."""
        return self._t.pages(p.Person, "/people", {"query": query, "group": group}, most)

    def show(self, person_id: int) -> p.PersonWhole:
        """One person with devices and quota."""
        return self._t.call(p.PersonWhole, "GET", f"/people/{person_id}")

    def set_left(self, person_id: int, left: bool = True, reason: str | None = None) -> None:
        """Note that somebody has left, or is back."""
        self._t.send("POST", f"/people/{person_id}/left", json=p.Leaving(left=left, reason=reason))

    def set_inner(self, group_id: int, groups: Sequence[int]) -> None:
        """Put exactly these groups into a group."""
        self._t.send("PUT", f"/groups/{group_id}/groups", json=p.InnerGroups(groups=[*groups]))

    def groups(self) -> Sequence[p.Group]:
        """All groups."""
        return self._t.call(list[p.Group], "GET", "/groups")


Watch = Callable[[jb.Job], None]
#: Larger files are followed as a job instead of being waited for.
_JOB_BYTES = 2_000_000


class Lots(_Noun):
    """Lots."""

    def check(
        self,
        path: Path | None = None,
        *,
        paste: str | None = None,
        name: str | None = None,
        defaults: Mapping[str, str] | None = None,
        columns: Mapping[str, str] | None = None,
        overwrite_manual: bool = False,
        by_hand: bool = False,
        sheet: str | None = None,
        header_row: int | None = None,
        like: int | None = None,
        watch: Watch | None = None,
    ) -> lo.Lot:
        """Check a file of any format, or pasted identifiers, and keep it as a draft.

        columns: column → header. like: a lot whose defaults and columns are taken over. watch:
        hears how far a large file is.
        """
        content = path.read_bytes() if path else (paste or "").encode()
        params: list[tuple[str, str]] = [("name", name)] if name else []
        params += [("file_name", path.name)] if path else []
        params += [("default", f"{k}={v}") for k, v in (defaults or {}).items()] + [
            ("column", f"{k}={v}") for k, v in (columns or {}).items()
        ]
        params += [
            (flag, "true")
            for flag, given in (("overwrite_manual", overwrite_manual), ("by_hand", by_hand))
            if given
        ]
        params += [
            (word, str(value))
            for word, value in (("sheet", sheet), ("header_row", header_row), ("like", like))
            if value is not None
        ]
        headers = {"Content-Type": "application/octet-stream" if path else "text/plain"}
        if watch is None or len(content) < _JOB_BYTES:
            return self._t.call(
                lo.Lot, "POST", "/lots", params=params, content=content, headers=headers
            )
        taken = self._t.call(
            lo.LotTaken,
            "POST",
            "/lots",
            params=params,
            content=content,
            headers={**headers, **_ASYNC},
        )
        if taken.job is not None:
            Jobs(self._t).follow(taken.job, watch)
        return self.show(taken.lot_id).model_copy(update={"repeated": taken.job is None})

    def settle(self, lot_id: int, settings: lo.LotSettings) -> lo.Lot:
        """Read a draft in another way: columns, defaults, sheet, header line."""
        return self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/settings",
            json=settings.model_dump(mode="json", exclude_unset=True),
        )

    def edit(
        self,
        lot_id: int,
        column: str,
        value: str | None,
        *,
        rows: Sequence[int] = (),
        note: str | None = None,
        verdict: Verdict | None = None,
    ) -> lo.Lot:
        """Set one cell, or one column of many rows."""
        return self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/edit",
            json=lo.RowEdit(
                rows=list(rows), note=note, verdict=verdict, column=column, value=value
            ),
        )

    def resolve(
        self,
        lot_id: int,
        remedy: Remedy | None,
        *,
        rows: Sequence[int] = (),
        note: str | None = None,
        verdict: Verdict | None = None,
    ) -> lo.Lot:
        """Resolve conflicts: skip, take back, merge; None undoes it."""
        return self._t.call(
            lo.Lot,
            "POST",
            f"/lots/{lot_id}/resolve",
            json=lo.RowRemedy(rows=list(rows), note=note, verdict=verdict, remedy=remedy),
        )

    def takeout(self, lot_id: int, form: str = "csv", verdicts: Sequence[Verdict] = ()) -> bytes:
        """Rows that stayed behind, with a `problem` column, as a CSV or XLSX file."""
        return self._t.send(
            "GET",
            f"/lots/{lot_id}/takeout",
            params={"form": form, **({"verdict": list(verdicts)} if verdicts else {})},
        ).content

    def template(self, platform: Platform, form: str = "csv") -> bytes:
        """A file with the headers for a platform's devices."""
        return self._t.send("GET", f"/lots/templates/{platform}", params={"form": form}).content

    def list(
        self, status: LotStatus | None = None, query: str | None = None, most: int | None = None
    ) -> Iterator[lo.Lot]:
        """Lots, newest first."""
        return self._t.pages(lo.Lot, "/lots", {"status": status, "query": query}, most)

    def show(self, lot_id: int) -> lo.Lot:
        """One lot."""
        return self._t.call(lo.Lot, "GET", f"/lots/{lot_id}")

    def rows(
        self,
        lot_id: int,
        verdict: Verdict | None = None,
        note: str | None = None,
        most: int | None = None,
    ) -> Iterator[lo.LotRow]:
        """Rows in the order of the file."""
        return self._t.pages(
            lo.LotRow, f"/lots/{lot_id}/rows", {"verdict": verdict, "note": note}, most
        )

    def notes(self, lot_id: int) -> Sequence[lo.NoteGroup]:
        """Notes grouped, most frequent first."""
        return self._t.call(list[lo.NoteGroup], "GET", f"/lots/{lot_id}/notes")

    def file(self, lot_id: int) -> bytes:
        """The file, byte for byte."""
        return self._t.send("GET", f"/lots/{lot_id}/file").content

    def preview(self, lot_id: int) -> Preview:
        """What applying would do now."""
        return self._t.call(Preview, "POST", f"/lots/{lot_id}/preview")

    def apply(
        self, lot_id: int, digest: str, reason: str | None = None, watch: Watch | None = None
    ) -> lo.Lot:
        """Apply as previewed."""
        return self._long(lot_id, "apply", Apply(digest=digest, reason=reason), watch)

    def discard(self, lot_id: int, reason: str | None = None) -> lo.Lot:
        """Put a draft aside."""
        return self._t.call(lo.Lot, "POST", f"/lots/{lot_id}/discard", json=Reason(reason=reason))

    def preview_revert(self, lot_id: int) -> Preview:
        """What reverting would do."""
        return self._t.call(Preview, "POST", f"/lots/{lot_id}/revert/preview")

    def revert(
        self, lot_id: int, digest: str, reason: str | None = None, watch: Watch | None = None
    ) -> lo.Lot:
        """Revert as previewed."""
        return self._long(lot_id, "revert", Apply(digest=digest, reason=reason), watch)

    def _long(self, lot_id: int, what: str, given: Apply, watch: Watch | None) -> lo.Lot:
        path = f"/lots/{lot_id}/{what}"
        if watch is None:
            return self._t.call(lo.Lot, "POST", path, json=given)
        Jobs(self._t).follow(self._t.call(jb.Job, "POST", path, json=given, headers=_ASYNC), watch)
        return self.show(lot_id)


class Jobs(_Noun):
    """Long work."""

    def list(self, running: bool = False, most: int | None = None) -> Iterator[jb.Job]:
        """Jobs, newest first."""
        return self._t.pages(jb.Job, "/jobs", {"running": running or None}, most)

    def show(self, job_id: int) -> jb.Job:
        """How far one job is."""
        return self._t.call(jb.Job, "GET", f"/jobs/{job_id}")

    def cancel(self, job_id: int) -> jb.Job:
        """Stop a job; nothing of it is kept."""
        return self._t.call(jb.Job, "POST", f"/jobs/{job_id}/cancel")

    def follow(self, job: jb.Job, watch: Watch) -> jb.Job:
        """Wait for a job's end, telling how far it is. Raises Refused with what it failed of."""
        while True:
            watch(job)
            if job.state is JobState.DONE:
                return job
            if job.state in (JobState.FAILED, JobState.CANCELLED):
                raise job_problem(job)
            time.sleep(_LOOK_EVERY_SECONDS)
            job = self.show(job.id)


class Orders(_Noun):
    """Orders: ordered, delivered, arrived, short, over."""

    def list(self) -> Sequence[od.Order]:
        """Orders, newest first."""
        return self._t.call(list[od.Order], "GET", "/orders")

    def show(self, order_id: int) -> od.Order:
        """One order, line by line."""
        return self._t.call(od.Order, "GET", f"/orders/{order_id}")

    def add(self, order: od.OrderNew) -> od.Order:
        """Add an order."""
        return self._t.call(od.Order, "POST", "/orders", json=order)

    def edit(self, order_id: int, order: od.OrderNew) -> od.Order:
        """Change an order."""
        return self._t.call(od.Order, "PUT", f"/orders/{order_id}", json=order)

    def remove(self, order_id: int) -> None:
        """Remove an order; its devices keep its name."""
        self._t.send("DELETE", f"/orders/{order_id}")


class Devices(_Noun):
    """Devices."""

    def list(self, most: int | None = None, **conditions: Any) -> Iterator[d.Device]:
        """Devices; conditions as the HTTP interface names them: filter, query, person, cohort,
        pool, sort, descending.
        """
        return self._t.pages(d.Device, "/devices", conditions, most)

    def count(self, **conditions: Any) -> int:
        """How many devices fit."""
        asked = {name: value for name, value in conditions.items() if value not in (None, [], ())}
        return int(
            self._t.send("GET", "/devices", params={**asked, "total": "true", "limit": 1}).json()[
                "total"
            ]
        )

    def csv(self, **conditions: Any) -> str:
        """Up to 500 devices as CSV."""
        asked = {name: value for name, value in conditions.items() if value not in (None, [], ())}
        return self._t.send(
            "GET", "/devices", params={**asked, "limit": 500}, headers={"Accept": "text/csv"}
        ).text

    def file(self, form: str = "csv", columns: Sequence[str] = (), **conditions: Any) -> bytes:
        """All devices that fit, as CSV or XLSX with these columns (attributes of the filter
        language).
        """
        return self._t.send(
            "GET", "/devices/file", params={**conditions, "form": form, "column": [*columns]}
        ).content

    def show(self, device_id: int) -> d.DeviceWhole:
        """One device with all that is known of it."""
        return self._t.call(d.DeviceWhole, "GET", f"/devices/{device_id}")

    def preview_declare(self, selection: d.Selection, ownership: Ownership) -> Preview:
        """Whose the devices would become."""
        return self._t.call(
            Preview,
            "POST",
            "/devices/declare/preview",
            json=d.Declare(selection=selection, ownership=ownership),
        )

    def declare(
        self, selection: d.Selection, ownership: Ownership, digest: str, reason: str | None = None
    ) -> Preview:
        """Declare as previewed."""
        return self._t.call(
            Preview,
            "POST",
            "/devices/declare/apply",
            json=d.DeclareApply(
                selection=selection, ownership=ownership, digest=digest, reason=reason
            ),
        )

    def preview_assign(self, device_id: int, person: str | None) -> Preview:
        """What giving the device to a person would change."""
        return self._t.call(
            Preview, "POST", f"/devices/{device_id}/assign/preview", json=d.Assign(person=person)
        )

    def assign(
        self, device_id: int, person: str | None, digest: str, reason: str | None = None
    ) -> Preview:
        """Give the device to a person as previewed."""
        return self._t.call(
            Preview,
            "POST",
            f"/devices/{device_id}/assign/apply",
            json=d.AssignApply(person=person, digest=digest, reason=reason),
        )

    def name(self, device_id: int, name: str, reason: str | None = None) -> None:
        """Name a device by hand."""
        self._t.send("POST", f"/devices/{device_id}/name", json=d.SetName(name=name, reason=reason))

    def report(self, device_id: int, flag: str | None, reason: str | None = None) -> None:
        """Report missing or stolen; None clears."""
        self._t.send("POST", f"/devices/{device_id}/report", json={"flag": flag, "reason": reason})

    def hold(self, device_id: int, reason: str, until_on: date) -> int:
        """Keep out of sweeps until a day; gives the hold's number."""
        return self._t.call(
            d.HoldMade,
            "POST",
            f"/devices/{device_id}/holds",
            json=d.HoldNew(reason=reason, until_on=until_on),
        ).id

    def end_hold(self, hold_id: int) -> None:
        """End a hold now."""
        self._t.send("DELETE", f"/holds/{hold_id}")


class Cohorts(_Noun):
    """Sets of devices, by filter or by list; and the filter language."""

    def list(self) -> Sequence[co.Cohort]:
        """Cohorts by name with their numbers."""
        return self._t.call(list[co.Cohort], "GET", "/cohorts")

    def show(self, cohort_id: int) -> co.Cohort:
        """One cohort."""
        return self._t.call(co.Cohort, "GET", f"/cohorts/{cohort_id}")

    def preview(self, filter: str, cohort_id: int | None = None) -> Preview:
        """What a filter holds; against a cohort: what enters and leaves."""
        return self._t.call(
            Preview,
            "POST",
            "/cohorts/preview",
            json=co.CohortFilter(filter=filter, cohort_id=cohort_id),
        )

    def add(self, cohort: co.CohortNew) -> co.Cohort:
        """Add a cohort; without a filter an empty list."""
        return self._t.call(co.Cohort, "POST", "/cohorts", json=cohort)

    def edit(self, cohort_id: int, cohort: co.CohortNew) -> co.Cohort:
        """Change a cohort."""
        return self._t.call(co.Cohort, "PUT", f"/cohorts/{cohort_id}", json=cohort)

    def remove(self, cohort_id: int) -> None:
        """Remove a cohort that nothing speaks of."""
        self._t.send("DELETE", f"/cohorts/{cohort_id}")

    def explain(self, cohort_id: int, device_id: int) -> co.Explained:
        """Whether a device is in it, comparison by comparison."""
        return self._t.call(
            co.Explained, "GET", f"/cohorts/{cohort_id}/explain", params={"device": device_id}
        )

    def overlap(self, one_id: int, other_id: int) -> co.Overlap:
        """How many devices two cohorts share."""
        return self._t.call(co.Overlap, "GET", f"/cohorts/{one_id}/overlap/{other_id}")

    def uses(self, cohort_id: int) -> Sequence[co.Use]:
        """What speaks of it."""
        return self._t.call(list[co.Use], "GET", f"/cohorts/{cohort_id}/uses")

    def history(self, cohort_id: int) -> Sequence[co.DayCount]:
        """Its numbers by day."""
        return self._t.call(list[co.DayCount], "GET", f"/cohorts/{cohort_id}/history")

    def preview_list(self, cohort_id: int, selection: d.Selection, put_in: bool = True) -> Preview:
        """Which devices would come to a list or go from it."""
        return self._t.call(
            Preview,
            "POST",
            f"/cohorts/{cohort_id}/devices/preview",
            json=co.ListChange(selection=selection, put_in=put_in),
        )

    def change_list(
        self,
        cohort_id: int,
        selection: d.Selection,
        digest: str,
        put_in: bool = True,
        reason: str | None = None,
    ) -> Preview:
        """Change a list as previewed."""
        given = co.ListChangeApply(selection=selection, put_in=put_in, digest=digest, reason=reason)
        return self._t.call(Preview, "POST", f"/cohorts/{cohort_id}/devices/apply", json=given)

    def check(self, filter: str) -> co.FilterRead:
        """Read a filter and count its devices."""
        return self._t.call(
            co.FilterRead, "POST", "/filters/check", json=co.FilterGiven(filter=filter)
        )

    def attributes(self) -> Sequence[co.Attribute]:
        """Everything a filter can speak of."""
        return self._t.call(list[co.Attribute], "GET", "/filters/attributes")

    def values(self, attribute: str, beginning: str = "") -> Sequence[str]:
        """Values that devices have now."""
        return self._t.call(
            list[str],
            "GET",
            "/filters/values",
            params={"attribute": attribute, "beginning": beginning},
        )

    def views(self) -> Sequence[co.View]:
        """Saved views of the device list."""
        return self._t.call(list[co.View], "GET", "/views")

    def save_view(self, view: co.ViewNew) -> co.View:
        """Keep a view."""
        return self._t.call(co.View, "POST", "/views", json=view)

    def remove_view(self, view_id: int) -> None:
        """Forget a view of one's own."""
        self._t.send("DELETE", f"/views/{view_id}")


class Gate(_Noun):
    """The gate and naming."""

    def show(self) -> g.Gate:
        """The policies in order."""
        return self._t.call(g.Gate, "GET", "/gate")

    def preview(self, policies: Sequence[g.Policy]) -> Preview:
        """Whom of today's fleet the proposed gate would meet otherwise."""
        return self._t.call(
            Preview, "POST", "/gate/preview", json=g.GateChange(policies=list(policies))
        )

    def apply(self, policies: Sequence[g.Policy], digest: str, reason: str | None = None) -> int:
        """Save the gate as previewed; gives its revision."""
        return self._t.call(
            g.Saved,
            "POST",
            "/gate/apply",
            json=g.GateApply(policies=list(policies), digest=digest, reason=reason),
        ).revision

    def attempt(self, imagined: g.Try) -> g.Decision:
        """Try an imagined device."""
        return self._t.call(g.Decision, "POST", "/gate/try", json=imagined)

    def naming(self) -> g.Naming:
        """The naming templates."""
        return self._t.call(g.Naming, "GET", "/naming")

    def preview_names(
        self, selection: d.Selection | None = None, templates: Sequence[g.Template] | None = None
    ) -> Preview:
        """Old → new over a selection."""
        given = g.NamingPreview(
            selection=selection or d.Selection(),
            templates=None if templates is None else list(templates),
        )
        return self._t.call(Preview, "POST", "/naming/preview", json=given)

    def save_names(self, templates: Sequence[g.Template], reason: str | None = None) -> int:
        """Save the templates; gives the revision."""
        return self._t.call(
            g.Saved,
            "POST",
            "/naming/save",
            json=g.NamingSave(templates=list(templates), reason=reason),
        ).revision

    def rename(
        self, digest: str, selection: d.Selection | None = None, reason: str | None = None
    ) -> Preview:
        """Rename as previewed."""
        return self._t.call(
            Preview,
            "POST",
            "/naming/apply",
            json=g.RenameApply(selection=selection or d.Selection(), digest=digest, reason=reason),
        )


class Arrivals(_Noun):
    """Passes, arrivals, and the agent protocol."""

    def add_pass(self, given: r.PassNew) -> r.PassCode:
        """Make a pass; the code is given this once."""
        return self._t.call(r.PassCode, "POST", "/passes", json=given)

    def passes(self, most: int | None = None) -> Iterator[r.Pass]:
        """Passes, newest first."""
        return self._t.pages(r.Pass, "/passes", {}, most)

    def revoke_pass(self, pass_id: int, reason: str | None = None) -> None:
        """End a pass at once."""
        self._t.send("POST", f"/passes/{pass_id}/revoke", json=Reason(reason=reason))

    def list(
        self, outcome: Outcome | None = None, waiting: bool = False, most: int | None = None
    ) -> Iterator[r.Arrival]:
        """Arrivals, newest first."""
        return self._t.pages(
            r.Arrival, "/arrivals", {"outcome": outcome, "waiting": waiting or None}, most
        )

    def show(self, arrival_id: int) -> r.ArrivalWhole:
        """One arrival with its trace."""
        return self._t.call(r.ArrivalWhole, "GET", f"/arrivals/{arrival_id}")

    def knock(self, given: r.Knock) -> r.KnockAnswer:
        """Arrive as a device."""
        return self._t.call(r.KnockAnswer, "POST", "/agent/knock", json=given)

    def check_in(self, credential: str, os_version: str | None = None) -> r.CheckInAnswer:
        """Give a sign of life as a device."""
        headers = {"Authorization": f"Bearer {credential}"}
        return self._t.call(
            r.CheckInAnswer,
            "POST",
            "/agent/check-in",
            json=r.CheckIn(os_version=os_version),
            headers=headers,
        )

    def relay(self, check_ins: Sequence[r.RelayedCheckIn]) -> r.RelayAnswer:
        """Hand in up to 1,000 check-ins."""
        return self._t.call(
            r.RelayAnswer, "POST", "/agent/check-ins", json=r.Relay(check_ins=list(check_ins))
        )


class Pools(_Noun):
    """Licence pools."""

    def list(self) -> Sequence[li.Pool]:
        """Pools by name."""
        return self._t.call(list[li.Pool], "GET", "/pools")

    def show(self, pool_id: int) -> li.Pool:
        """One pool."""
        return self._t.call(li.Pool, "GET", f"/pools/{pool_id}")

    def add(self, pool: li.PoolNew) -> li.Pool:
        """Add a pool."""
        return self._t.call(li.Pool, "POST", "/pools", json=pool)

    def edit(self, pool_id: int, pool: li.PoolNew) -> li.Pool:
        """Change a pool."""
        return self._t.call(li.Pool, "PUT", f"/pools/{pool_id}", json=pool)

    def remove(self, pool_id: int) -> None:
        """Remove a pool."""
        self._t.send("DELETE", f"/pools/{pool_id}")


class Sweeps(_Noun):
    """Sweep rules and runs."""

    def rules(self) -> Sequence[s.Rule]:
        """Rules by name."""
        return self._t.call(list[s.Rule], "GET", "/sweep-rules")

    def rule(self, rule_id: int) -> s.Rule:
        """One sweep rule."""
        return self._t.call(s.Rule, "GET", f"/sweep-rules/{rule_id}")

    def add_rule(self, rule: s.RuleNew) -> s.Rule:
        """Add a rule."""
        return self._t.call(s.Rule, "POST", "/sweep-rules", json=rule)

    def edit_rule(self, rule_id: int, rule: s.RuleNew) -> s.Rule:
        """Change a rule."""
        return self._t.call(s.Rule, "PUT", f"/sweep-rules/{rule_id}", json=rule)

    def remove_rule(self, rule_id: int) -> None:
        """Remove a rule."""
        self._t.send("DELETE", f"/sweep-rules/{rule_id}")

    def preview(self, rule_id: int) -> Preview:
        """Whom the rule would retire now."""
        return self._t.call(Preview, "POST", f"/sweep-rules/{rule_id}/preview")

    def apply(self, rule_id: int, digest: str, reason: str | None = None) -> s.Sweep:
        """Retire as previewed."""
        return self._t.call(
            s.Sweep,
            "POST",
            f"/sweep-rules/{rule_id}/apply",
            json=Apply(digest=digest, reason=reason),
        )

    def runs(self, most: int | None = None) -> Iterator[s.Sweep]:
        """Runs, newest first."""
        return self._t.pages(s.Sweep, "/sweeps", {}, most)

    def preview_revert(self, sweep_id: int) -> Preview:
        """Which devices would come back."""
        return self._t.call(Preview, "POST", f"/sweeps/{sweep_id}/revert/preview")

    def revert(self, sweep_id: int, digest: str, reason: str | None = None) -> s.Sweep:
        """Bring a run's devices back as previewed."""
        return self._t.call(
            s.Sweep, "POST", f"/sweeps/{sweep_id}/revert", json=Apply(digest=digest, reason=reason)
        )


class Journal(_Noun):
    """The journal and Today."""

    def list(
        self, operation: str | None = None, actor: str | None = None, most: int | None = None
    ) -> Iterator[j.Entry]:
        """Entries, newest first."""
        return self._t.pages(j.Entry, "/journal", {"operation": operation, "actor": actor}, most)

    def show(self, entry_id: int) -> j.EntryWhole:
        """One entry with its first effects."""
        return self._t.call(j.EntryWhole, "GET", f"/journal/{entry_id}")

    def preview_revert(self, entry_id: int) -> Preview:
        """What reverting would do."""
        return self._t.call(Preview, "POST", f"/journal/{entry_id}/revert/preview")

    def revert(self, entry_id: int, digest: str, reason: str | None = None) -> int:
        """Revert as previewed; gives the reverting entry's number."""
        return self._t.call(
            j.Reverted,
            "POST",
            f"/journal/{entry_id}/revert",
            json=Apply(digest=digest, reason=reason),
        ).entry_id

    def today(self) -> j.Today:
        """What needs a hand."""
        return self._t.call(j.Today, "GET", "/today")
