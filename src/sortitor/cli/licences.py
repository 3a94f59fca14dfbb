"""`sortitor pool`: licence seats and vouchers."""

from __future__ import annotations

import sys
from operator import itemgetter
from pathlib import Path

import click

from sortitor.cli.connection import with_client
from sortitor.cli.documents import Noun, add_commands
from sortitor.cli.output import (
    agree,
    change_options,
    counted,
    form_of,
    output_option,
    plain,
    print_columns,
    quoted,
    record,
    talk,
    to_option,
    toned,
    write,
    write_one,
    written,
)
from sortitor.client import Sortitor
from sortitor.core.licences.pools import Pool
from sortitor.core.vocabulary import Act, PoolState
from sortitor.core.words import LABELS
from sortitor.schemas.licences import Comparison, PoolDetail, PoolOutcome, Voucher

_TONES = {
    PoolState.COVERED: "good",
    PoolState.GRACE: "warn",
    PoolState.SHORT: "bad",
    PoolState.LAPSED: "bad",
}


@click.group()
def pool() -> None:
    """Licence seats: how many are needed, how many there are and until when."""


def _detail(s: Sortitor, found: PoolDetail) -> None:
    course = s.pools.course(found.id)
    record(
        [
            ("Pool", f"{found.id}  {found.name}"),
            ("State", toned(LABELS[PoolState][found.state], _TONES[found.state])),
            ("Needed", f"{found.needed:,}, by devices of {course.people:,} people"),
            ("Seats", f"{found.held:,}, of them {found.seats:,} without an end"),
            ("Free", found.free),
            ("Ends on", found.ends_on),
            ("In grace", f"{found.in_grace:,} until {found.lasts_on}" if found.in_grace else None),
            ("Seat-days left", found.seat_days),
            ("Product", found.product or found.name),
            ("When short", LABELS[type(found.when_short)][found.when_short]),
            ("Devices", found.filter or "all"),
            ("Awaited too", found.awaited_too),
        ]
    )
    if course.short_on and course.short_on > course.today:
        why = "because seats end" if course.short_by_end else "as devices come"
        plain(f"\nTurns short on {course.short_on}, {why}: {course.short_of:,} missing then.")
    if course.ways:
        plain(f"\nShort of {found.needed - found.held:,}. Ways back:", "warn")
    for way in course.ways:
        plain(f"- {way.words}.", "warn")
    talk(f"\nNext: sortitor device list --pool {found.id}")


add_commands(
    Noun(
        group=pool,
        word="pool",
        calls=lambda s: s.pools,
        model=Pool,
        has_findings=lambda p: p.state is not PoolState.COVERED,
        columns={
            "Id": lambda p: p.id,
            "Pool": lambda p: p.name,
            "State": lambda p: toned(LABELS[PoolState][p.state], _TONES[p.state]),
            "Needed": lambda p: p.needed,
            "Seats": lambda p: p.held,
            "Free": lambda p: p.free,
            "Ends on": lambda p: p.ends_on,
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


#: In a voucher, between its three parts.
_DOTS = 2


#: How pictures begin: PNG, JPEG, GIF, BMP, TIFF.
_PICTURES = (b"\x89PNG", b"\xff\xd8\xff", b"GIF8", b"BM", b"II*\x00", b"MM\x00*")


def _text(s: Sortitor, given: str) -> str:
    """A voucher as it is, in a file or a picture, or on standard input."""
    if given == "-":
        return sys.stdin.read()
    # A voucher is longer than a file's name may be, and is none.
    path = Path(given) if len(given) < 256 else None
    if path is not None and path.is_file():
        content = path.read_bytes()
        if content.startswith(_PICTURES) or content[8:12] == b"WEBP":
            return s.pools.read_picture(content)
        return content.decode(errors="replace")
    if path is not None and given.strip().count(".") != _DOTS:
        raise click.UsageError(f"There is no file {given}, and it is no voucher either.")
    return given


_VOUCHER = click.argument("voucher", metavar="VOUCHER")
_HOW = (
    "VOUCHER is the voucher itself, a file, mail or photo that holds it, or - for standard input."
)


def _voucher_record(found: Voucher) -> None:
    used = found.booked
    record(
        [
            ("Voucher", found.words),
            ("For", [one.name for one in found.pools] or ["no pool: set a pool's product"]),
            ("Booked as", found.used_as),
            ("Used", f"on {used.granted_on} by {used.by}" if used else "no"),
        ]
    )


@pool.command(
    "read-voucher",
    help=f"Say what a voucher is.\n\n{_HOW}\n\n\b\nExample:\n"
    "  sortitor pool read-voucher voucher.txt",
)
@_VOUCHER
@output_option
@with_client
def read_voucher(s: Sortitor, voucher: str, output: str) -> None:
    found = s.pools.read_voucher(_text(s, voucher))
    if output != "table":
        write_one(found, output)
        return
    _voucher_record(found)
    if found.pools and not found.booked:
        talk(f"\nNext: sortitor pool compare {quoted(found.pools[0].name)} VOUCHER")


def _way(act: Act) -> str:
    return LABELS[Act][act].partition(":")[0].capitalize()


def _column(found: PoolOutcome) -> list[str]:
    moved = "" if found.moved_days is None else f" ({found.moved_days:+,} days)"
    return [
        LABELS[PoolState][found.state],
        f"{found.held:,}",
        f"{found.ends_on}{moved}" if found.ends_on else "no end",
        f"{found.seat_days:,}",
        f"{found.uncovered:,}",
        str(found.uncovered_on or "never"),
        f"{found.without:,}",
        f"{found.unused:,}",
    ]


def _compared(found: Comparison) -> None:
    lines = [
        "State",
        "Seats",
        "End on",
        "Seat-days left",
        "Devices without a seat",
        "First day without",
        f"Device-days without, to {found.until}",
        "Seat-days that nobody uses",
    ]
    ways = {"Now": found.now, **{_way(one.act): one for one in found.outcomes}}
    columns = {title: itemgetter(place) for place, title in enumerate(("", *ways))}
    rows = list(zip(lines, *(_column(one) for one in ways.values()), strict=True))
    print_columns(rows, columns)
    worse = [one for one in found.outcomes if one.act is not found.best]
    for one in worse:
        if one.without > min(other.without for other in found.outcomes):
            plain(f"\n{_way(one.act)} leaves more devices without.", "bad")


@pool.command(
    "compare",
    help=f"Show what a voucher would do to a pool, each way.\n\n{_HOW}\n\n"
    "\b\nExample:\n  sortitor pool compare Signage voucher.txt",
)
@click.argument("name")
@_VOUCHER
@output_option
@with_client
def compare(s: Sortitor, name: str, voucher: str, output: str) -> None:
    found = s.pools.compare(name, _text(s, voucher))
    if output != "table":
        write_one(found, output)
        return
    plain(f"{found.voucher.words} {found.needed:,} seats are needed.\n")
    _compared(found)
    talk(f"\nNext: sortitor pool use {quoted(name)} VOUCHER --as {found.best.value}")


@pool.command(
    "use",
    help=f"Use a voucher for a pool, with preview.\n\n{_HOW}\n\n\b\nExample:\n"
    "  sortitor pool use Signage voucher.txt --as top-up",
)
@click.argument("name")
@_VOUCHER
@click.option(
    "--as",
    "act",
    type=click.Choice([act.value for act in Act]),
    required=True,
    help="How: with the seats that are there, in their place, or beside them.",
)
@change_options
@with_client
def use(s: Sortitor, name: str, voucher: str, act: str, yes: bool, reason: str | None) -> None:
    text = _text(s, voucher)
    preview = s.pools.preview_grant(name, text, Act(act))
    agree(preview, yes)
    made = s.pools.apply_grant(name, text, Act(act), preview.digest, reason)
    talk(f"Booked as {made.used_as}. To take it back: sortitor journal revert {made.entry_id}")


@pool.command("history")
@click.argument("name")
@output_option
@with_client
def history(s: Sortitor, name: str, output: str) -> None:
    """List the vouchers of a pool, newest first, also those taken back.

    \b
    Example:
      sortitor pool history "Display signage"
    """
    columns = {
        "Voucher": lambda g: g.used_as,
        "On": lambda g: g.granted_on,
        "How": lambda g: _way(g.act),
        "Seats": lambda g: g.seats,
        "Days": lambda g: g.days,
        "By": lambda g: g.by,
        "Entry": lambda g: g.entry_id,
        "Taken back": lambda g: g.reverted_at and g.reverted_at.date(),
    }
    write(s.pools.grants(name), output, columns, empty="No voucher was used yet.")


@pool.command("report")
@click.option("--month", metavar="YYYY-MM", help="Which month.  [the present one]")
@to_option("Write it to a file: .csv or .xlsx.", required=False)
@output_option
@with_client
def report(s: Sortitor, month: str | None, to: Path | None, output: str) -> None:
    """Report a month of every pool: needed, held, changes, and cost where prices are known.

    \b
    Examples:
      sortitor pool report --month 2026-01
      sortitor pool report --to january.xlsx
    """
    if to is not None:
        to.write_bytes(s.pools.report_file(month, form_of(to)))
        written(to)
        return
    found = s.pools.report(month)
    columns = {
        "Pool": lambda m: m.pool,
        "State": lambda m: toned(LABELS[PoolState][m.state], _TONES[m.state]),
        "Needed": lambda m: m.needed,
        "Seats": lambda m: m.seats,
        "Came": lambda m: m.came,
        "Went": lambda m: m.went,
        "Vouchers": lambda m: ", ".join(one.used_as for one in m.vouchers),
        "End on": lambda m: m.ends_on,
        "Cost": lambda m: "" if m.cost is None else f"{m.cost:,} {m.currency}",
    }
    if found.pools and output == "table":
        talk(f"{found.first_on} to {found.last_on}, {counted(len(found.pools), 'pool')}\n")
    write(found.pools, output, columns, empty="No pools yet.")
