"""The local administrator of a device has a password of its own: made when the device fetches its
sheet, shown once per look, and another one after each look.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from sortitor.core.errors import Conflict
from sortitor.core.kits.sheets import SetupSheet
from sortitor.core.vocabulary import Giving
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.kits.library import library
from sortitor.store import delivery, devices, kits
from sortitor.store import passwords as store
from sortitor.store.engine import Connection
from sortitor.store.passwords import PasswordRow

#: Without letters that look like others or like digits.
_LETTERS, _DIGITS = "abcdefghijkmnpqrstuvwxyz", "23456789"
_GROUPS, _LONG = 4, 4


@dataclass(frozen=True, slots=True)
class Password:
    """What opens a device: the local administrator's user name and password. `former`: the one
    before, which holds where the device has not changed it yet.
    """

    user: str
    password: str
    former: str | None


def make_password() -> str:
    """Four groups of four, to be typed off a page: `Kx7m-2hqa-9prt-wz4c`, 78 bits; with a capital
    letter and digits, as devices ask for.
    """
    signs = _LETTERS + _DIGITS
    groups = ["".join(secrets.choice(signs) for _ in range(_LONG)) for _ in range(_GROUPS)]
    first = secrets.choice(_LETTERS).upper() + secrets.choice(_DIGITS) + groups[0][2:]
    return "-".join((first, *groups[1:]))


def fetched(ctx: Context, device_id: int) -> str:
    """The password that a device fetches with its sheet."""
    with ctx.bookkeeping() as connection:
        new = ctx.vault.seal(make_password().encode())
        return ctx.vault.open(store.take(connection, device_id, new, ctx.now)).decode()


def look(ctx: Context, device_id: int) -> Password:
    """The password in clear; the journal tells of the look, and the device gets another one. Raises
    Conflict where there is no local administrator, or the device has not fetched its sheet.
    """
    with ctx.changing() as connection:
        device = or_not_found(devices.one(connection, device_id), "device", device_id)
        sheet, row = _sheet(connection, device_id), store.one(connection, device_id)
        if sheet is None or sheet.local_administrator is None or row is None:
            raise _nothing_yet(sheet)
        shown = _shown(ctx, sheet.local_administrator, row)
        if row.taken:
            new = ctx.vault.seal(make_password().encode())
            store.change(connection, device_id, new, ctx.now)
            delivery.ask_again(connection, [device_id])
            delivery.push(connection, [device_id], ctx.actor.name, ctx.now)
        label = ctx.veil.label(device.id, device.name, None, device.ownership)
        words = f"The administrator’s password of {label} was looked at"
        ctx.record(connection, "device.password", "device", words, subject_id=device_id)
        return shown


def _sheet(connection: Connection, device_id: int) -> SetupSheet | None:
    found = library(connection)
    chosen = found.chosen(found.facts(kits.facts_of(connection, device_id)), Giving.SHEET)
    return None if chosen is None else found.documents[Giving.SHEET][chosen].document


def _shown(ctx: Context, user: str, row: PasswordRow) -> Password:
    former = None if row.former is None else ctx.vault.open(row.former).decode()
    if row.taken or former is None:
        return Password(user, ctx.vault.open(row.sealed).decode(), former)
    # What was made after the last look is nowhere yet.
    return Password(user, former, None)


def _nothing_yet(sheet: SetupSheet | None) -> Conflict:
    if sheet is None or sheet.local_administrator is None:
        words = "The device’s setup sheet has no local administrator."
        return Conflict("no_administrator", words, "Name one in its setup sheet.")
    words = "The device has not fetched its setup sheet yet, so it has no password."
    return Conflict("not_fetched", words, "Wait until it checks in, or wake it.")
