"""Made-up hardware numbers that pass their checks."""

from __future__ import annotations

from random import Random

from stdnum import luhn

#: The test type allocation code range 00 (3GPP TS 23.003): no real device has it.
_TEST_RANGE = "00"


def imei(random: Random) -> str:
    """A 15-digit IMEI with its check digit, in the range kept for tests."""
    return completed(_TEST_RANGE + f"{random.randrange(10**12):012d}")


def completed(body: str) -> str:
    """The 14 digits with their check digit."""
    return body + str(luhn.calc_check_digit(body))


def serial(random: Random, prefix: str, length: int = 9) -> str:
    """A serial number with the maker's prefix."""
    return prefix + "".join(
        random.choice("0123456789ABCDEFGHJKLMNPRSTUVWXYZ") for _ in range(length)
    )
