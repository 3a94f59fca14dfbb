"""Reading a supplier's file: bytes in, a frame of text cells out, or an error that says what and
where.

A file is recognised by its content, never by its name: workbooks by their archive, JSON Lines by
their objects, everything else as delimited text. Where the headers stand, and which of several
sheets holds the rows, is found by what the headers mean.
"""

from __future__ import annotations

from sortitor.core.errors import BadInput
from sortitor.core.manifests import encodings, foreign, lines, sheets, text
from sortitor.core.manifests.encodings import ENCODINGS
from sortitor.core.manifests.shape import (
    EXTRA_CELLS,
    MAX_COLUMNS,
    MAX_ROWS,
    Manifest,
    Reading,
    Remark,
    lines_above,
    reading_of,
    remarks_of,
)

#: The byte order mark of UTF-8.
_MARK = b"\xef\xbb\xbf"

__all__ = [
    "ENCODINGS",
    "EXTRA_CELLS",
    "MAX_COLUMNS",
    "MAX_ROWS",
    "Manifest",
    "Reading",
    "Remark",
    "lines_above",
    "read_paste",
    "read_table",
    "reading_of",
    "remarks_of",
]


def read_table(content: bytes, reading: Reading = Reading()) -> Manifest:
    """A file of any format, as rows of text cells. Raises BadInput, TooLarge or Unsupported."""
    if not content.removeprefix(_MARK).strip():
        raise BadInput("empty_file", "The file is empty.", "Export the file again.")
    if sheets.is_archive(content):
        return sheets.read(content, reading)
    foreign.refuse_by_beginning(content)
    decoded, encoding, remarks = encodings.decode(content, reading.encoding)
    if not decoded.strip():
        raise BadInput("empty_file", "The file is empty.", "Export the file again.")
    foreign.refuse_documents(decoded)
    if lines.is_json(decoded):
        return lines.read_json(decoded, encoding)
    return text.read(decoded, encoding, reading, remarks)


def read_paste(content: bytes) -> Manifest:
    """Identifiers separated by commas, semicolons, blanks or lines; each token becomes a row of its
    kind. What was copied out of a spreadsheet has columns, and is read as a table.
    """
    decoded, encoding, remarks = encodings.decode(content)
    titled = text.columns_of_paste(decoded)
    if titled is not None:
        # Without titles the first line is a row like the others.
        reading = Reading() if titled else Reading(header_row=0)
        return text.read(decoded, encoding, reading, remarks)
    return lines.read_identifiers(decoded)
