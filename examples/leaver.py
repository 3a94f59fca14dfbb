"""A person leaves: take back all that they have, in one entry of the journal.

    SORTITOR_URL=https://devices.example.org SORTITOR_TOKEN=… python leaver.py maud.fenwick

Without `--do` it only says what it would do.
"""

from __future__ import annotations

import os
import sys

from sortitor.client import Sortitor
from sortitor.client.errors import FactsMoved, NotFound
from sortitor.schemas.devices import Selection


def main(person: str, do: bool) -> int:
    """Take the person's devices back."""
    with Sortitor(os.environ["SORTITOR_URL"], os.environ["SORTITOR_TOKEN"]) as s:
        try:
            found = s.people.show(person)
        except NotFound:
            print(f"Nobody is called {person}.", file=sys.stderr)
            return 1
        theirs = Selection(person_id=found.id)
        preview = s.devices.preview_give(theirs, None)
        print(preview.title)
        for count in preview.counts:
            print(f"{count.count:>6}  {count.label}")
        if not do or preview.nothing_to_do:
            return 0
        try:
            s.devices.give(theirs, None, preview.digest, reason=f"{found.name} leaves")
        except FactsMoved as moved:
            print(f"Something changed meanwhile: {moved.preview.title}", file=sys.stderr)
            return 5
        entry = next(s.journal.list(most=1))
        print(f"Done; the way back: sortitor journal revert {entry.id}")
        return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], "--do" in sys.argv))
