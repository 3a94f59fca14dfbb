"""`sortitor here`: what this machine knows of its own hardware."""

from __future__ import annotations

import array
import fcntl
import json
import socket
import struct
import sys
import tempfile
from dataclasses import asdict
from pathlib import Path

import click

from sortitor.cli.connection import at_once_option, with_client
from sortitor.cli.output import ExitCode, talk
from sortitor.client import Sortitor
from sortitor.core.here import Card, Found, Machine, found_in
from sortitor.schemas.arrivals import Announced

#: ioctl for network cards, and asking one for the address it was made with (linux/ethtool.h).
_SIOCETHTOOL, _GPERMADDR = 0x8946, 0x20
_LONGEST, _LENGTH = 32, 6


def read_machine(root: Path = Path("/")) -> Machine:
    """What the kernel tells of the machine's hardware, and why the rest is not told."""
    unread: dict[str, str] = {}

    def text(fact: str, name: str) -> str:
        file = root / "sys/class/dmi/id" / name
        try:
            return file.read_text(errors="replace").strip()
        except FileNotFoundError:
            unread[fact] = "the firmware tells none (no DMI)"
        except PermissionError:
            unread[fact] = "only root may read it; use sudo"
        except OSError as error:
            unread[fact] = error.strerror or str(error)
        return ""

    return Machine(
        serial=text("serial number", "product_serial"),
        uuid=text("UUID", "product_uuid"),
        maker=text("maker", "sys_vendor"),
        model=text("model", "product_name"),
        cards=_cards(root / "sys/class/net"),
        unread=unread,
    )


def _cards(folder: Path) -> list[Card]:
    cards = []
    for card in sorted(folder.glob("*")):
        if card.name == "lo":
            continue
        physical = (card / "device").exists()
        cards.append(Card(card.name, _permanent(card) if physical else "", physical))
    return cards


def _permanent(card: Path) -> str:
    """The address a card was made with: as its driver tells, or else the present one if it is the
    card's own.
    """
    told = _told_by_driver(card.name)
    if told:
        return told
    try:
        # 0 is the kernel's word for an address that is the card's own.
        own = (card / "addr_assign_type").read_text().strip() == "0"
        return (card / "address").read_text().strip() if own else ""
    except OSError:
        return ""


def _told_by_driver(name: str) -> str:
    """What `ETHTOOL_GPERMADDR` gives; nothing where the driver or the system does not tell."""
    asked = array.array("B", struct.pack("II32s", _GPERMADDR, _LONGEST, b""))
    request = struct.pack("16sP", name.encode()[:15], asked.buffer_info()[0])
    try:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            fcntl.ioctl(line.fileno(), _SIOCETHTOOL, request)
    except OSError:
        return ""
    size = struct.unpack_from("II", asked)[1]
    address = bytes(asked[8 : 8 + size])
    return address.hex(":") if size == _LENGTH and any(address) else ""


@with_client
def _send(s: Sortitor, found: Found, code: str | None, passcode: str | None) -> None:
    """Send the line as a draft lot, to be looked at and applied; with a pass, nobody signs in."""
    if code is not None:
        lot_id = s.agent.announce(
            Announced(
                code=code,
                passcode=passcode,
                machine=socket.gethostname(),
                serial=found.serial,
                uuid=found.uuid,
                macs=list(found.macs),
                maker=found.maker,
                model=found.model,
                fingerprint=found.fingerprint,
            )
        )
        talk(f"Sent. A coordinator finds it as draft lot {lot_id}.")
        return
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / f"{socket.gethostname()}.csv"
        file.write_text(found.as_manifest())
        lot = s.lots.check(file, name=f"Sent from {socket.gethostname()}")
    talk(f"Draft lot {lot.id}. Next: sortitor lot show {lot.id}")


@click.command()
@click.option("--send", is_flag=True, help="Send it to the service as a draft lot.")
@click.option("--pass", "code", metavar="CODE", help="Send it with a pass instead of an account.")
@click.option("--ask-passcode", is_flag=True, help="Ask for the passcode that the pass has, too.")
@click.option(
    "-o",
    "--output",
    type=click.Choice(["csv", "json"]),
    default="csv",
    show_default=True,
    help="csv is a manifest line.",
)
@click.pass_context
@at_once_option
def here(
    context: click.Context, send: bool, code: str | None, ask_passcode: bool, output: str
) -> None:
    """Print the identifiers of this machine as a manifest line. Exit code 1 if some are missing.

    \b
    Examples:
      sudo sortitor here >> laptops.csv
      sudo sortitor here --send
      sudo sortitor --url https://devices.example here --pass 7K3MN-4TQ2W --ask-passcode
    """
    found = found_in(read_machine())
    for line in found.missing:
        talk(f"Not read: {line}.")
    if found.fingerprint is None:
        talk("This machine tells nothing that identifies it.")
        raise click.exceptions.Exit(ExitCode.FINDINGS)
    if send or code is not None:
        passcode = click.prompt("Passcode", hide_input=True) if ask_passcode else None
        context.invoke(_send, found=found, code=code, passcode=passcode)
    elif output == "json":
        click.echo(json.dumps(asdict(found), ensure_ascii=False, indent=2))
    else:
        sys.stdout.write(found.as_manifest())
    if found.missing:
        raise click.exceptions.Exit(ExitCode.FINDINGS)
