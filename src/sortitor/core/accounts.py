"""What an account may be called, and what a good password is."""

from __future__ import annotations

import unicodedata

from sortitor.core.errors import BadInput, FieldProblem

#: Names under which the service itself, or nobody, stands in the journal.
RESERVED = frozenset(
    [
        "anonymous",
        "anybody",
        "demo",
        "demonstration",
        "device",
        "devices",
        "everybody",
        "metrics",
        "nobody",
        "recovery",
        "root",
        "schedule",
        "service",
        "setup",
        "somebody",
        "sortitor",
        "stranger",
        "system",
        "unknown",
        "worker",
    ]
)
LEAST_CHARACTERS = 12
#: Longer ones are no stronger, and take the estimate longer.
MOST_CHARACTERS = 200
_ESTIMATED_CHARACTERS = 72
_LEAST_SCORE = 3
_LOOK_ALIKES = {"0": "o", "1": "l", "i": "l"}


def name_key(name: str) -> str:
    """What two names share that look alike: compatibility forms made one (NFKC), case folded,
    invisible characters gone, look-alike letters of other scripts and digits replaced.
    """
    plain = unicodedata.normalize("NFKC", name).casefold()
    seen = [one for one in plain if unicodedata.category(one) not in ("Cf", "Cc", "Mn", "Me")]
    return " ".join("".join(map(_prototype, seen)).split())


def _prototype(letter: str) -> str:
    if not letter.isascii():
        from confusable_homoglyphs import confusables  # its tables are large

        found = confusables.is_confusable(letter, greedy=True, preferred_aliases=[])
        alike = [one["c"].casefold() for entry in found or () for one in entry["homoglyphs"]]
        letter = min((one for one in alike if len(one) == 1 and one.isascii()), default=letter)
    return _LOOK_ALIKES.get(letter, letter)


#: Letters and signs that show nothing.
_BLANKS = "\u115f\u1160\u2800\u3164\uffa0"
_RESERVED_KEYS = frozenset(map(name_key, RESERVED))


def check_account_name(name: str) -> str:
    """The name as it is kept. Raises BadInput for a reserved one, and for one that cannot be told
    from another by eye.
    """
    kept = unicodedata.normalize("NFKC", name).strip()
    odd = next((one for one in kept if _is_odd(one)), None)
    if odd is not None:
        words = unicodedata.name(odd, f"U+{ord(odd):04X}").lower()
        raise _bad(f"The name holds a character that cannot be seen or told apart ({words}).")
    if not kept or not name_key(kept):
        raise _bad("The name has no letters.")
    if name_key(kept) in _RESERVED_KEYS:
        raise _bad(f"The name {kept} is kept for the service itself.")
    if not kept.isascii() and _mixes_scripts(kept):
        raise _bad("The name mixes letters of two scripts that look alike.")
    return kept


def _is_odd(letter: str) -> bool:
    return letter in _BLANKS or (letter != " " and unicodedata.category(letter)[0] in "CZ")


def _bad(detail: str) -> BadInput:
    problem = FieldProblem("/name", "account_name", detail)
    return BadInput("account_name", detail, "Choose another name.", (problem,))


def check_password(name: str, password: str) -> None:
    """Raise BadInput for a password that is short, common, or easily guessed by the estimate of
    zxcvbn (3 of 4 is asked for).
    """
    detail = _weakness(name, password)
    if detail is not None:
        raise BadInput(
            "weak_password",
            detail,
            "Choose several words that do not belong together.",
            (FieldProblem("/password", "weak_password", detail),),
        )


def _mixes_scripts(name: str) -> bool:
    from confusable_homoglyphs import confusables  # its tables are large

    return bool(confusables.is_mixed_script(name) and confusables.is_dangerous(name))


def _weakness(name: str, password: str) -> str | None:
    if len(password) < LEAST_CHARACTERS:
        return f"A password has at least {LEAST_CHARACTERS} characters."
    if len(password) > MOST_CHARACTERS:
        return f"A password has at most {MOST_CHARACTERS} characters."
    if password.casefold() == name.casefold():
        return "A password is not the account's name."
    from zxcvbn import zxcvbn  # its dictionaries are large

    found = zxcvbn(password[:_ESTIMATED_CHARACTERS], [name, "sortitor"])
    if found["score"] >= _LEAST_SCORE:
        return None
    warning = found["feedback"]["warning"] or "It is easily guessed"
    return f"This password is too weak. {warning.rstrip('.')}."
