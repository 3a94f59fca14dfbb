"""`sortitor pool`: licence seats."""

from __future__ import annotations

import click

from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import plain, record, talk, toned
from sortitor.client import Sortitor
from sortitor.core.licences import Pool, PoolState
from sortitor.schemas.licences import PoolDetail

_IDLE_DAYS = 90


@click.group()
def pool() -> None:
    """Licence seats: how many are needed, how many there are."""


def _detail(s: Sortitor, found: PoolDetail) -> None:
    record(
        [
            ("Pool", f"{found.id}  {found.name}"),
            ("Needed", found.needed),
            ("Seats", found.seats),
            ("Free", found.free),
            ("State", found.state),
            ("Devices", found.filter or "all"),
            ("Awaited too", found.awaited_too),
        ]
    )
    if found.state is PoolState.SHORT:
        dormant = s.devices.count(pool=found.id, filter=f"idleDays ge {_IDLE_DAYS}")
        plain(
            f"\nShort of {found.needed - found.seats:,}. Ways back: buy seats, narrow the pool, or"
            f" sweep: {dormant:,} of its devices are idle for {_IDLE_DAYS} days or more.",
            "warn",
        )
    talk(f"\nNext: sortitor device list --pool {found.id}")


add_commands(
    Noun(
        group=pool,
        word="pool",
        calls=lambda s: s.pools,
        model=Pool,
        has_findings=lambda p: p.needed > p.seats,
        columns={
            "Id": lambda p: p.id,
            "Pool": lambda p: p.name,
            "State": lambda p: toned(p.state, "bad" if p.state == "short" else "good"),
            "Needed": lambda p: p.needed,
            "Seats": lambda p: p.seats,
            "Free": lambda p: p.free,
            "Devices": lambda p: p.filter or "all",
        },
        below=["Devices"],
        after=lambda p: f"sortitor device list --pool {p.id}",
        detail=_detail,
        empty="No pools yet. Next: sortitor pool add NAME --seats N",
        examples={
            "list": "sortitor pool list",
            "show": 'sortitor pool show "Display signage"',
            "add": "sortitor pool add Signage --seats 120 --filter 'platform eq \"linux\"'",
            "edit": 'sortitor pool edit "Display signage" --seats 140',
            "remove": "sortitor pool remove 2",
            "revisions": 'sortitor pool revisions "Display signage"',
        },
    )
)
