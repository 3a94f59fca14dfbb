"""Made-up identifiers that are valid, for every test."""

from stdnum import luhn


def imei(number: int) -> str:
    """A valid IMEI for a number below ten million."""
    body = f"3569380{number:07d}"
    return body + str(luhn.calc_check_digit(body))
