"""Passes, and devices that knock with them: asked, decided, followed."""

from sortitor.operations.arrivals.announcing import announce
from sortitor.operations.arrivals.claims import hand_over, preview_hand_over, turn_away
from sortitor.operations.arrivals.knocking import Answer, hash_credential, knock, trouble_of
from sortitor.operations.arrivals.reading import Board, Way, board, counts, one, page
from sortitor.store.arrivals import ArrivalRow, PassRow, Wanted

__all__ = [
    "Answer",
    "ArrivalRow",
    "Board",
    "PassRow",
    "Wanted",
    "Way",
    "announce",
    "board",
    "counts",
    "hand_over",
    "hash_credential",
    "knock",
    "one",
    "page",
    "preview_hand_over",
    "trouble_of",
    "turn_away",
]
