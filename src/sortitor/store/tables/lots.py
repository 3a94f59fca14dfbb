"""Lots: files, rows, verdicts, notes."""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

from sortitor.core import vocabulary
from sortitor.store.tables.base import (
    Time,
    metadata,
    number_column,
    words,
)

lots = Table(
    "lots",
    metadata,
    number_column(),
    Column("name", Text, nullable=False),
    Column("status", Text, nullable=False),
    Column("form", Text, nullable=False),
    Column("file_name", Text),
    Column("content", LargeBinary, nullable=False),
    Column("fingerprint", Text, nullable=False),
    Column("content_bytes", BigInteger, nullable=False),
    # How the file was read: comma … pipe, workbook, json, paste; of a workbook, which sheet of
    # which.
    Column("layout", Text, nullable=False),
    Column("encoding", Text, nullable=False, server_default=""),
    Column("sheet", Text),
    Column("sheets", JSONB, nullable=False, server_default="[]"),
    Column("header_row", Integer, nullable=False, server_default="1"),
    # What the columns' meaning was taken from: meaning, given, remembered.
    Column("columns_from", Text, nullable=False, server_default="meaning"),
    # The journal's latest entry when the verdicts were made.
    Column("checked_at_entry_id", BigInteger, nullable=False, server_default="0"),
    # Whether its ownership is a statement by hand, as in a declaration from a list.
    Column("by_hand", Boolean, nullable=False, server_default="false"),
    Column("known_only", Boolean, nullable=False, server_default="false"),
    Column("columns", JSONB, nullable=False),
    Column("headers", JSONB, nullable=False),
    # What was asked for: sheets, header line, encoding, and the manner (see core.lots.Manner).
    Column("reading", JSONB, nullable=False, server_default="{}"),
    # What came out: the lines above the rows, what is to be said of file and columns.
    Column("understanding", JSONB, nullable=False, server_default="{}"),
    Column("defaults", JSONB, nullable=False),
    Column("overwrite_manual", Boolean, nullable=False),
    Column("counts", JSONB, nullable=False),
    Column("severities", JSONB, nullable=False),
    Column("digest", Text, nullable=False),
    Column("created_by", Text, nullable=False),
    Column("created_at", Time, nullable=False),
    Column("checked_at", Time, nullable=False),
    Column("applied_at", Time),
    Column("reverted_at", Time),
    Column("entry_id", BigInteger),
    words("status", vocabulary.LotStatus),
    Index(None, "fingerprint"),
)

# No foreign key on what belongs to a lot: lots are never deleted, and a check per row would cost a
# large lot a third more.
#: The rows of a lot in the file's order, a thousand to a block: their numbers, a letter of verdict
#: each, their cells as given.
lot_blocks = Table(
    "lot_blocks",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("first_row", Integer, nullable=False),
    Column("last_row", Integer, nullable=False),
    Column("numbers", ARRAY(Integer), nullable=False),
    Column("verdicts", Text, nullable=False),
    # An Arrow IPC file with one text column per header: small, quick, and every cell exactly as it
    # was given.
    Column("cells", LargeBinary, nullable=False),
    PrimaryKeyConstraint("lot_id", "first_row"),
)

#: Those rows of a lot that meet a device of the fleet, and what they change of it.
lot_rows = Table(
    "lot_rows",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("device_id", BigInteger, nullable=False),
    Column("changes", JSONB),
    PrimaryKeyConstraint("lot_id", "row"),
)

#: Cells that were edited in place; the original stays in `lot_rows` and in the file.
lot_edits = Table(
    "lot_edits",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("header", Text, nullable=False),
    Column("value", Text),
    PrimaryKeyConstraint("lot_id", "row", "header"),
)

lot_choices = Table(
    "lot_choices",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("remedy", Text, nullable=False),
    PrimaryKeyConstraint("lot_id", "row"),
    CheckConstraint("remedy IN ('skip', 'take', 'take_back', 'merge')", name="remedy"),
)

#: Header → column, as somebody corrected it for a supplier (by lower-case name; "" where a file has
#: none), and how such files are to be read.
mappings = Table(
    "mappings",
    metadata,
    Column("supplier", Text, primary_key=True),
    Column("columns", JSONB, nullable=False),
    Column("manner", JSONB, nullable=False, server_default="{}"),
    Column("changed_at", Time, nullable=False),
    Column("changed_by", Text, nullable=False),
)

#: The makers that lots have brought: the next file's spellings are compared with them.
makers = Table(
    "makers",
    metadata,
    Column("name", Text, primary_key=True),
    Column("added_at", Time, nullable=False),
)

lot_notes = Table(
    "lot_notes",
    metadata,
    Column("lot_id", BigInteger, nullable=False),
    Column("row", Integer, nullable=False),
    Column("code", Text, nullable=False),
    Column("column", Text),
    Column("given", Text),
    Index(None, "lot_id", "code", "row"),
    Index(None, "lot_id", "row"),
)
