"""Makes the workbooks under tests/corpus/office with an office suite, which must be installed:

    .venv/bin/python tools/office_files.py

They are flat OpenDocument files that the suite opens and saves as ODS and XLSX, so that the tests
read what it writes: repeated cells, styles, cached values.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

PLACE = Path(__file__).parent.parent / "tests" / "corpus" / "office"
_HEAD = """<?xml version="1.0" encoding="UTF-8"?>
<office:document xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"
 xmlns:style="urn:oasis:names:tc:opendocument:xmlns:style:1.0"
 xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0"
 xmlns:number="urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0"
 xmlns:of="urn:oasis:names:tc:opendocument:xmlns:of:1.2"
 xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" office:version="1.2"
 office:mimetype="application/vnd.oasis.opendocument.spreadsheet">
<office:automatic-styles>
<number:number-style style:name="N6">
<number:number number:decimal-places="0" number:min-integer-digits="6"/></number:number-style>
<style:style style:name="six" style:family="table-cell" style:data-style-name="N6"/>
<style:style style:name="gone" style:family="table"><style:table-properties table:display="false"/>
</style:style></office:automatic-styles><office:body><office:spreadsheet>"""
_TAIL = "</office:spreadsheet></office:body></office:document>"


def text(words: str, more: str = "") -> str:
    """A cell of text."""
    return (
        f'<table:table-cell office:value-type="string" {more}><text:p>{words}</text:p>'
        "</table:table-cell>"
    )


def number(value: str, more: str = "") -> str:
    """A cell with a number."""
    return f'<table:table-cell office:value-type="float" office:value="{value}" {more}/>'


def formula(words: str) -> str:
    """A cell with a formula that the suite works out."""
    return f'<table:table-cell table:formula="of:={words}"/>'


def row(*cells: str, more: str = "") -> str:
    """A row."""
    return f"<table:table-row {more}>{''.join(cells)}</table:table-row>"


def sheet(name: str, *rows: str, more: str = "") -> str:
    """A sheet."""
    return f'<table:table table:name="{name}" {more}>{"".join(rows)}</table:table>'


S = [f"R58M{n:06d}" for n in range(10, 40)]
SIX = 'table:style-name="six"'
THREE_ROWS = 'table:number-rows-spanned="3" table:number-columns-spanned="1"'
FILES = {
    "zeros": sheet(
        "A",
        row(text("Serial"), text("Site")),
        row(number("123", SIX), text("x")),
        row(number("4567", SIX), text("x")),
    ),
    "hidden": sheet(
        "New",
        row(text("Serial"), text("Site")),
        row(text(S[0]), text("x")),
        row(text(S[1]), text("x"), more='table:visibility="collapse"'),
        row(text(S[2]), text("x")),
    )
    + sheet(
        "Old",
        row(text("Serial"), text("IMEI")),
        row(text(S[9]), text("")),
        more='table:style-name="gone"',
    ),
    "merged": sheet(
        "A",
        row(text("Serial"), text("Site")),
        row(text(S[0]), text("Quay 4", THREE_ROWS)),
        row(text(S[1]), "<table:covered-table-cell/>"),
        row(text(S[2]), "<table:covered-table-cell/>"),
    ),
    "errors": sheet(
        "A",
        row(text("Serial"), text("Model"), text("Colour")),
        row(formula("NA()"), text("x"), text("y")),
        row(text(S[0]), formula("1/0"), formula("NA()")),
    ),
    "long": sheet(
        "A",
        row(text("Serial"), text("Site")),
        row(number("123456789012345678"), text("x")),
        row(text(S[0]), text("x")),
    ),
    "lower": sheet(
        "A",
        row(
            '<table:table-cell table:number-columns-repeated="5"/>',
            more='table:number-rows-repeated="3"',
        ),
        row("<table:table-cell/>", text("Serial"), text("Site")),
        row("<table:table-cell/>", text(S[0]), text("x")),
        row("<table:table-cell/>", text(S[1]), text("x")),
    ),
}


def main() -> None:
    """Write every file in both formats."""
    PLACE.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        for name, sheets in FILES.items():
            flat = Path(folder) / f"{name}.fods"
            flat.write_text(_HEAD + sheets + _TAIL, encoding="utf-8")
            for form in ("ods", "xlsx"):
                profile = f"-env:UserInstallation=file://{folder}/profile"
                command = ["soffice", "--headless", profile]
                command += ["--convert-to", form, "--outdir", str(PLACE), str(flat)]
                subprocess.run(command, check=True, stdout=sys.stderr)


if __name__ == "__main__":
    main()
