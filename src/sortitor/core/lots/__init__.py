"""Lots: what would become of each row of a supplier's file.

`prepare` turns cells into checked values without knowing the fleet; the store then looks up what
the fleet knows under these identifiers; `decide` gives every row its verdict. All of it works on
columns.
"""

from sortitor.core.lots.decide import change_pairs, decide, severities
from sortitor.core.lots.edits import overlaid
from sortitor.core.lots.fields import ownership_of
from sortitor.core.lots.fit import meaning_of
from sortitor.core.lots.kept import kept_values
from sortitor.core.lots.manner import Manner, manner_of
from sortitor.core.lots.prepare import check_defaults, maker_key, prepare
from sortitor.core.lots.shapes import Decided, Facts, Prepared, choices_of, nothing_known
from sortitor.core.lots.spelling import spelling_key
from sortitor.core.lots.takeout import problems_of

__all__ = [
    "Decided",
    "Facts",
    "Manner",
    "Prepared",
    "change_pairs",
    "check_defaults",
    "choices_of",
    "decide",
    "kept_values",
    "maker_key",
    "manner_of",
    "meaning_of",
    "nothing_known",
    "overlaid",
    "ownership_of",
    "prepare",
    "problems_of",
    "severities",
    "spelling_key",
]
