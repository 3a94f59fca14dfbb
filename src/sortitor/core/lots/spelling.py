"""One maker, one spelling: what differs by case, accents, blanks or a company's legal form is the
same; what differs by a letter is asked about once, and the answer is kept.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

import polars as pl

from sortitor.core.placeholders import key

_FORMS = re.compile(
    r"(gmbh(co)?(kg)?|ag|inc|incorporated|ltd|limited|llc|plc|co|corp|corporation|company|kg|ug"
    r"|sa|sarl|sas"
    r"|srl|spa|bv|nv|oy|oyj|ab|as|asa|aps|spzoo|sro|kk|pte|pty|group|international)$"
)
_LONG = 5


def spelling_key(text: str) -> str:
    """What two spellings of a maker have in common."""
    bare = key(text)
    while (found := _FORMS.search(bare)) and found.start() >= 3:
        bare = bare[: found.start()]
    return bare


def spellings(
    given: Sequence[str], known: Iterable[str], decided: Mapping[str, str | None]
) -> tuple[dict[str, str], dict[str, str]]:
    """`(same, near)`: given → how it is spelled, where that is another spelling of the same name;
    given → the known one that it may be, where nobody has said so yet.

    given:   the different texts of a column, the most frequent first
    decided: spelling key → the name that is meant; None: it is a name of its own
    """
    names = {spelling_key(name): name for name in reversed(list(known))}
    same: dict[str, str] = {}
    near: dict[str, str] = {}
    for text in given:
        its = spelling_key(text)
        if its in decided:
            if decided[its] is not None and decided[its] != text:
                same[text] = str(decided[its])
            continue
        if its in names:
            if names[its] != text:
                same[text] = names[its]
            continue
        rival = next((name for other, name in names.items() if _near(its, other)), None)
        if rival is not None:
            near[text] = rival
        names[its] = text
    return same, near


def _near(one: str, other: str) -> bool:
    """Whether a reader may take one for the other: a letter changed, missing, added or moved."""
    if min(len(one), len(other)) < _LONG or abs(len(one) - len(other)) > 1:
        return False
    if len(one) == len(other):
        apart = [place for place in range(len(one)) if one[place] != other[place]]
        swapped = (
            len(apart) == 2
            and apart[1] == apart[0] + 1
            and one[apart[0]] == other[apart[1]]
            and one[apart[1]] == other[apart[0]]
        )
        return len(apart) == 1 or swapped
    longer, shorter = sorted((one, other), key=len, reverse=True)
    return any(longer[:place] + longer[place + 1 :] == shorter for place in range(len(longer)))


def spelled(column: pl.Series, same: Mapping[str, str]) -> pl.Series:
    """The column with one spelling for each name."""
    return column.replace(dict(same)) if same else column
