"""Files of other kinds, refused by what they truly are: their name often says something else."""

from __future__ import annotations

import re

from sortitor.core.errors import Unsupported

_BEGINNINGS: tuple[tuple[bytes, str], ...] = (
    (b"%PDF-", "a PDF document"),
    (b"\x1f\x8b", "a compressed file (gzip)"),
    (b"7z\xbc\xaf\x27\x1c", "an archive (7z)"),
    (b"Rar!\x1a\x07", "an archive (RAR)"),
    (b"BZh", "a compressed file (bzip2)"),
    (b"\xfd7zXZ\0", "a compressed file (xz)"),
    (b"\x28\xb5\x2f\xfd", "a compressed file (zstd)"),
    (b"\x89PNG", "a picture (PNG)"),
    (b"\xff\xd8\xff", "a picture (JPEG)"),
    (b"GIF8", "a picture (GIF)"),
    (b"PAR1", "a Parquet file"),
    (b"SQLite format 3\0", "a database (SQLite)"),
    (b"{\\rtf", "a text document (RTF)"),
)
_SHEET_XML = "the XML form of a spreadsheet of 2003"
_DOCUMENTS: tuple[tuple[str, str], ...] = (
    (r"<\?mso-application[^>]*Excel|urn:schemas-microsoft-com:office:spreadsheet", _SHEET_XML),
    (r"<office:document\b|urn:oasis:names:tc:opendocument", "a flat OpenDocument file (FODS)"),
    (r"^\s*(<!doctype html|<html|<table|<meta|<head|<body|<style|<div)", "a web page (HTML)"),
    (r"^\s*<\?xml|^\s*<[A-Za-z_][\w.:-]*[\s>/]", "an XML document"),
    (r"^\s*(MIME-Version:|From: .*\n|Return-Path:|Received: )", "a mail, or a web archive"),
    (r"^\s*BEGIN:V(CARD|CALENDAR)", "a calendar or a list of contacts"),
)
_REMEDY = "Open it in the program that made it, and save the table as XLSX, ODS or CSV."


def refuse_by_beginning(content: bytes) -> None:
    """Raise Unsupported for what its first bytes say."""
    for beginning, what in _BEGINNINGS:
        if content.startswith(beginning):
            raise Unsupported("not_a_table", f"The file is {what}, not a table.", _remedy(what))


def refuse_documents(text: str) -> None:
    """Raise Unsupported for documents in a markup."""
    head = text[:4_000]
    for pattern, what in _DOCUMENTS:
        if re.search(pattern, head, re.IGNORECASE):
            raise Unsupported(
                "not_a_table", f"The file is {what}, whatever its name says.", _REMEDY
            )


def _remedy(what: str) -> str:
    packed = "archive" in what or "compressed" in what
    return "Unpack it, and give the file inside." if packed else _REMEDY
