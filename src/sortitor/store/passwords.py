"""The passwords of devices' local administrators, encrypted."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.postgresql import insert

from sortitor.store.rows import read_all
from sortitor.store.tables import device_passwords


@dataclass(frozen=True, slots=True)
class PasswordRow:
    """The password of a device; `former`: the one before. `taken`: whether the device has fetched
    the present one.
    """

    device_id: int
    sealed: bytes
    former: bytes | None
    at: datetime
    taken: bool


def take(connection: Connection, device_id: int, new: bytes, now: datetime) -> bytes:
    """The password that a device fetches; `new` where it has none."""
    line = {"device_id": device_id, "sealed": new, "at": now, "taken": True}
    statement = insert(device_passwords).values(line)
    kept: bytes = connection.execute(
        statement.on_conflict_do_update(
            index_elements=["device_id"], set_={"taken": True}
        ).returning(device_passwords.c.sealed)
    ).scalar_one()
    return kept


def one(connection: Connection, device_id: int) -> PasswordRow | None:
    """The password of a device, held until the transaction ends."""
    query = select(device_passwords).where(device_passwords.c.device_id == device_id)
    return next(iter(read_all(connection, query.with_for_update(), PasswordRow)), None)


def change(connection: Connection, device_id: int, new: bytes, now: datetime) -> None:
    """Have another one for a device, which it fetches next."""
    values = {"sealed": new, "former": device_passwords.c.sealed, "at": now, "taken": False}
    these = device_passwords.c.device_id == device_id
    connection.execute(update(device_passwords).where(these).values(values))


def every(connection: Connection) -> list[PasswordRow]:
    """All of them, held until the transaction ends."""
    query = select(device_passwords).order_by(device_passwords.c.device_id)
    return read_all(connection, query.with_for_update(), PasswordRow)


def reseal(connection: Connection, device_id: int, sealed: bytes, former: bytes | None) -> None:
    """Keep a password under another encryption."""
    these = device_passwords.c.device_id == device_id
    values = {"sealed": sealed, "former": former}
    connection.execute(update(device_passwords).where(these).values(values))
