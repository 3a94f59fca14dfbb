"""Files that were made to harm: by structure, size, encoding and archive. Each is a few kilobytes
or megabytes, whatever it would become.
"""

from __future__ import annotations

import io
import random
import zipfile
from collections.abc import Iterator

_MAIN = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
_RELATIONS = "http://schemas.openxmlformats.org/package/2006/relationships"
_OFFICE = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
_TYPES = (
    '<?xml version="1.0"?><Types xmlns='
    '"http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels"'
    ' ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default'
    ' Extension="xml" ContentType="application/xml"/></Types>'
)


def cell(place: str, text: str = "serial") -> str:
    """A cell with a text of its own."""
    return f'<c r="{place}" t="inlineStr"><is><t>{text}</t></is></c>'


def workbook(rows: str, shared: str | None = None, **members: bytes | str) -> bytes:
    """A workbook of one sheet with these rows as they are; `members` take the place of its parts,
    by name with _ for the slash.
    """
    parts: dict[str, bytes | str] = {
        "[Content_Types].xml": _TYPES,
        "_rels/.rels": f'<Relationships xmlns="{_RELATIONS}"><Relationship Id="rId1" Type='
        f'"{_OFFICE}/officeDocument" Target="xl/workbook.xml"/></Relationships>',
        "xl/workbook.xml": f'<workbook xmlns="{_MAIN}" xmlns:r="{_OFFICE}"><sheets><sheet name="S"'
        ' sheetId="1" r:id="rId1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": f'<Relationships xmlns="{_RELATIONS}"><Relationship Id="rId1"'
        f' Type="{_OFFICE}/worksheet" Target="worksheets/sheet1.xml"/><Relationship Id="rId2"'
        f' Type="{_OFFICE}/sharedStrings" Target="sharedStrings.xml"/></Relationships>',
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{_MAIN}"><sheetData>{rows}</sheetData>'
        "</worksheet>",
    }
    if shared is not None:
        parts["xl/sharedStrings.xml"] = f'<sst xmlns="{_MAIN}"><si><t>{shared}</t></si></sst>'
    parts |= {name.replace("__", "/"): content for name, content in members.items()}
    return archive(parts)


def archive(parts: dict[str, bytes | str]) -> bytes:
    """A ZIP archive of these parts."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as out:
        for name, content in parts.items():
            out.writestr(name, content)
    return buffer.getvalue()


def far_apart(place: str, row: int) -> bytes:
    """Two cells with an ocean between them."""
    return workbook(
        f'<row r="1">{cell("A1")}</row><row r="{row}">{cell(f"{place}{row}", "KM-1")}</row>'
    )


def repeated(count: int, length: int) -> bytes:
    """One long text that many cells point at."""
    one = '<c r="{}{}" t="s"><v>0</v></c>'
    rows = "".join(
        f'<row r="{row}">' + "".join(one.format(chr(65 + c), row) for c in range(20)) + "</row>"
        for row in range(1, count // 20 + 1)
    )
    return workbook(rows, "y" * length)


def ods(rows: int, columns: int) -> bytes:
    """An ODS sheet that says one cell over and over."""
    content = (
        '<office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"'
        ' xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text='
        '"urn:oasis:names:tc:opendocument:xmlns:text:1.0"><office:body><office:spreadsheet>'
        f'<table:table table:name="S"><table:table-row table:number-rows-repeated="{rows}">'
        f'<table:table-cell table:number-columns-repeated="{columns}"'
        ' office:value-type="string"><text:p>KM-1</text:p></table:table-cell></table:table-row>'
        "</table:table></office:spreadsheet></office:body></office:document-content>"
    )
    return archive(
        {"mimetype": "application/vnd.oasis.opendocument.spreadsheet", "content.xml": content}
    )


def entities(depth: int) -> str:
    """Entities of entities of entities."""
    lines = "".join(f'<!ENTITY e{i} "{f"&e{i - 1};" * 10 if i else "ha"}">' for i in range(depth))
    return (
        f'<?xml version="1.0"?><!DOCTYPE w [{lines}]><worksheet xmlns="{_MAIN}"><sheetData><row'
        f' r="1"><c r="A1" t="inlineStr"><is><t>&e{depth - 1};</t></is></c></row></sheetData>'
        "</worksheet>"
    )


#: Name → file: each of a kind that once did harm, or might.
NAMED: dict[str, bytes] = {
    "two cells apart": far_apart("XFD", 1_048_576),
    "two cells ten thousand rows apart": far_apart("XFD", 10_000),
    "one text of 300 MB": workbook(
        '<row r="1"><c r="A1" t="s"><v>0</v></c></row>', "x" * 300_000_000
    ),
    "a long text a million times": repeated(1_000_000, 30_000),
    "a row of 16 million cells in ODS": ods(1_000_000, 16_000),
    "an ODS that stays below each limit": ods(16_000, 16_000),
    "entities": workbook("", **{"xl__worksheets__sheet1.xml": entities(12)}),
    "a cell that is its own row": workbook('<row r="999999999999">' + cell("A1") + "</row>"),
    "a column that is none": workbook('<row r="1">' + cell("ZZZZZZ1") + "</row>"),
    "no sheet": archive({"xl/workbook.xml": "<workbook/>", "[Content_Types].xml": _TYPES}),
    "an archive in an archive": archive({"a.zip": archive({"b.csv": "serial\nKM-1\n"})}),
    "three thousand members": archive(
        {"xl/workbook.xml": "", **{f"m{i}": "" for i in range(3000)}}
    ),
    "zeros": archive({"xl/workbook.xml": "<w/>", "xl/worksheets/sheet1.xml": b"\0" * 400_000_000}),
    "one line of 40 MB": b"serial\n" + b"x" * 40_000_000,
    "a million columns": b"," * 1_000_000 + b"\n" + b"," * 1_000_000,
    "a quotation that never ends": b'serial,maker\n"KM-1,' + b"x" * 20_000_000,
    "only quotation marks": b'"' * 5_000_001,
    "JSON in JSON": b'[{"serial": ' + b"[" * 200_000 + b"]" * 200_000 + b"}]",
    "a JSON number without end": b'[{"serial": ' + b"9" * 5_000_000 + b"}]",
    "a byte order mark alone": b"\xef\xbb\xbf",
    "empty braces": b"{}",
    "UTF-16 of an odd length": b"\xff\xfes\0e\0r\0\n",
    "half of a pair": b'{"serial": "\\ud800"}',
    "NUL in a cell": b"serial\nKM\x00-1\n",
    "overlong UTF-8": b"serial\n\xc0\xaf\xe0\x80\xaf\n",
    "blank lines": b"\n" * 5_000_000,
    "carriage returns": b"\r" * 5_000_000,
}


def generated(seed: int, count: int) -> Iterator[tuple[str, bytes]]:
    """Files of many kinds, by chance: cut, bent and blown up."""
    chance = random.Random(seed)
    good = [
        workbook("".join(f'<row r="{r}">{cell(f"A{r}", f"KM-{r}")}</row>' for r in range(1, 40))),
        ods(3, 2),
        b"serial,maker\n" + b"".join(b"KM-%d,Kelmar\n" % i for i in range(50)),
        "serial;maker\nKM-1;Kjölmar\n".encode("utf-16"),
        b'{"serial": "KM-1"}\n{"serial": "KM-2"}\n',
    ]
    for number in range(count):
        kind = number % 8
        base = bytearray(chance.choice(good))
        if kind == 0:
            del base[chance.randrange(len(base)) :]
        elif kind == 1:
            for _ in range(chance.randrange(1, 40)):
                base[chance.randrange(len(base))] = chance.randrange(256)
        elif kind == 2:
            column = chance.choice(["B", "KN", "AAA", "XFD"])
            base = bytearray(far_apart(column, chance.randrange(2, 1_048_577)))
        elif kind == 3:
            base = bytearray(repeated(chance.randrange(20, 200_000), chance.randrange(1, 40_000)))
        elif kind == 4:
            base = bytearray(ods(chance.randrange(1, 2**22), chance.randrange(1, 2**16)))
        elif kind == 5:
            base = bytearray(chance.randbytes(chance.randrange(1, 20_000)))
        elif kind == 6:
            text = chance.choice(["{", "[", '"', ",", "'", ";", "\t", "=", "\u202e", "é", "\n"])
            base = bytearray((text * chance.randrange(1, 300_000)).encode())
        else:
            base = bytearray(
                workbook("", **{"xl__worksheets__sheet1.xml": entities(chance.randrange(1, 14))})
            )
        yield f"{number}, kind {kind}", bytes(base)
