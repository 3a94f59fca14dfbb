"""Nightly: check and apply every file that a supplier left in a folder.

    SORTITOR_URL=https://devices.example.org SORTITOR_TOKEN=… python nightly_import.py INBOX

A file that was taken moves to INBOX/done, one with rows that stayed behind to INBOX/to-mend, with
those rows beside it as a workbook. Run again after a crash: the very same file gives the same lot,
so that nothing is taken twice. Ends with 1 where a file needs a person.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from sortitor.client import Sortitor
from sortitor.client.errors import SortitorError
from sortitor.core.vocabulary import LotStatus, Verdict

STAYED_BEHIND = (Verdict.REJECT, Verdict.CONFLICT)


def take(s: Sortitor, file: Path) -> bool:
    """Take one file; gives whether all of it was taken."""
    lot = s.lots.check(file, defaults={"ownership": "corporate"})
    if lot.status is LotStatus.DRAFT:
        preview = s.lots.preview(lot.id)
        if not preview.nothing_to_do:
            s.lots.apply(lot.id, preview.digest, reason=f"Nightly import of {file.name}")
    left = sum(lot.counts.get(verdict, 0) for verdict in STAYED_BEHIND)
    folder = file.parent / ("to-mend" if left else "done")
    folder.mkdir(exist_ok=True)
    if left:
        rows = s.lots.takeout(lot.id, "xlsx", STAYED_BEHIND)
        (folder / f"{file.stem} rows.xlsx").write_bytes(rows)
    file.rename(folder / file.name)
    print(f"{file.name}: lot {lot.id}, {sum(lot.counts.values())} rows, {left} to mend")
    return not left


def main(inbox: Path) -> int:
    """Take every file of the folder."""
    url, token = os.environ["SORTITOR_URL"], os.environ["SORTITOR_TOKEN"]
    well = True
    with Sortitor(url, token) as s:
        for file in sorted(path for path in inbox.iterdir() if path.is_file()):
            try:
                well = take(s, file) and well
            except SortitorError as error:
                print(f"{file.name}: {error}", file=sys.stderr)
                well = False
    return 0 if well else 1


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
