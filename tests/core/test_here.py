"""What a machine tells of itself: what identifies it, and what does not."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from pathlib import Path

import pytest

from sortitor.cli.here import read_machine
from sortitor.core.here import Card, Machine, found_in

UUID = "4c4c4544-0042-3510-8052-b4c04f4d4d32"
LAPTOP = Machine(
    serial="PW-7KQ2X",
    uuid=UUID.upper(),
    maker="Pellworth Inc.",
    model="Fathom 14",
    cards=[Card("enp1s0", "00:1B:44:11:3A:B7", physical=True)],
    unread={},
)


def test_a_laptop_becomes_a_line_of_a_manifest() -> None:
    found = found_in(LAPTOP)
    assert found.missing == ()
    [line] = csv.DictReader(io.StringIO(found.as_manifest()))
    assert line == {
        "serial": "PW-7KQ2X",
        "maker": "Pellworth Inc.",
        "model": "Fathom 14",
        "platform": "linux",
        "uuid": UUID,
        "mac": "00:1b:44:11:3a:b7",
        "fingerprint": found.fingerprint,
    }


def test_the_fingerprint_is_of_the_identifiers_and_of_nothing_else() -> None:
    first = found_in(LAPTOP).fingerprint
    assert found_in(replace(LAPTOP, model="Fathom 14 G2")).fingerprint == first
    assert found_in(replace(LAPTOP, serial="PW-7KQ2Y")).fingerprint != first
    assert found_in(replace(LAPTOP, cards=[])).fingerprint != first


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"serial": "To Be Filled By O.E.M."}, "serial number"),
        ({"serial": "Default string"}, "serial number"),
        ({"uuid": "00000000-0000-0000-0000-000000000000"}, "UUID"),
        ({"uuid": "03000200-0400-0500-0006-000700080009"}, "UUID"),
        ({"cards": [Card("wlan0", "d6:11:22:33:44:55", True)]}, "randomised"),
        ({"cards": [Card("docker0", "02:42:ac:11:00:02", False)]}, "no real card"),
        ({"cards": [Card("enp1s0", "", True)]}, "no permanent address"),
        ({"unread": {"serial number": "only root may read it; use sudo"}}, "use sudo"),
    ],
)
def test_what_identifies_nothing_is_left_out_and_said(
    changed: dict[str, object], words: str
) -> None:
    [missing] = found_in(replace(LAPTOP, **changed)).missing  # type: ignore[arg-type]
    assert words in missing


def test_a_machine_that_tells_nothing_has_no_fingerprint() -> None:
    nothing = Machine("", "", "", "", [], {"serial number": "the firmware tells none (no DMI)"})
    assert found_in(nothing).fingerprint is None


def test_a_machine_is_read_from_the_kernels_files(tmp_path: Path) -> None:
    dmi, net = tmp_path / "sys/class/dmi/id", tmp_path / "sys/class/net"
    dmi.mkdir(parents=True)
    for name, text in (("product_serial", "PW-1\n"), ("sys_vendor", "Pellworth\n")):
        (dmi / name).write_text(text)
    for name, kind in (("enp9s9", "0"), ("wlp9s9", "3"), ("br9", "0")):
        (net / name).mkdir(parents=True)
        (net / name / "address").write_text("00:1b:44:11:3a:b7\n")
        (net / name / "addr_assign_type").write_text(f"{kind}\n")
    for name in ("enp9s9", "wlp9s9"):
        (net / name / "device").mkdir()
    found = found_in(read_machine(tmp_path))
    assert (found.serial, found.maker, found.macs) == ("PW-1", "Pellworth", ("00:1b:44:11:3a:b7",))
    assert [line.partition(":")[0] for line in found.missing] == [
        "UUID",
        "model",
        "network card br9",
        "network card wlp9s9",
    ]
