"""Bytes into text: what encoding a file has, and how sure that is.

UTF-8 and UTF-16 prove themselves. Everything else is read as Windows-1252, unless what comes out
does not look like writing; then the likeliest other encoding is taken, and said to be doubtful.
"""

from __future__ import annotations

import codecs
import re
import unicodedata
from collections.abc import Iterator

from charset_normalizer import from_bytes

from sortitor.core.errors import BadInput, Unsupported
from sortitor.core.manifests.shape import Remark

#: Encodings that can be said, by the names that people know them by.
ENCODINGS: dict[str, str] = {
    "UTF-8": "utf-8-sig",
    "UTF-16": "utf-16",
    "UTF-16LE": "utf-16-le",
    "UTF-16BE": "utf-16-be",
    "Windows-1250": "cp1250",
    "Windows-1251": "cp1251",
    "Windows-1252": "cp1252",
    "Windows-1253": "cp1253",
    "Windows-1254": "cp1254",
    "Windows-1255": "cp1255",
    "Windows-1256": "cp1256",
    "Windows-1257": "cp1257",
    "ISO-8859-1": "iso8859-1",
    "ISO-8859-2": "iso8859-2",
    "ISO-8859-9": "iso8859-9",
    "ISO-8859-15": "iso8859-15",
    "KOI8-R": "koi8-r",
    "CP437": "cp437",
    "CP850": "cp850",
    "CP852": "cp852",
    "CP866": "cp866",
    "Mac-Roman": "mac-roman",
    "Shift_JIS": "cp932",
    "EUC-JP": "euc-jp",
    "EUC-KR": "cp949",
    "GB18030": "gb18030",
    "Big5": "big5",
}
_CODECS = {codecs.lookup(codec).name: name for name, codec in ENCODINGS.items()}
_MARKS = {
    b"\xff\xfe\0\0": "UTF-32",
    b"\0\0\xfe\xff": "UTF-32",
    b"\xff\xfe": "UTF-16",
    b"\xfe\xff": "UTF-16",
}
#: What Windows-1252 leaves undefined; a text that has these is something else.
_UNDEFINED = re.compile(rb"[\x81\x8d\x8f\x90\x9d]")
_CONTROL = bytes({*range(0x20)} - {*b"\t\n\v\f\r\x1b"})
#: Signs that stand alone in writing: a dash, a degree, a trade mark, a quotation mark.
_SIGNS = re.compile(
    r"(?<!\w)[–—•…“”„«»‘’‚€£¥§©¡¿¶](?!\w)|[\u00a0°®™€'’´`–—…·±µ×]|[²³¹½¼¾ªº](?!\w)"
    r"|(?<![^\W\d_])[“”„](?![^\W\d_])"
)
_UPPER_INSIDE = re.compile(r"[a-zß-ÿ][A-ZÀ-Þ]")
_ABOVE_ASCII = re.compile(r"[^\x00-\x7f]")
#: UTF-8 that was read as Windows-1252 and written again as UTF-8.
_TWICE = re.compile("[ÂÃÄÅÐÑØÙ][\u0080-\u00bf\u0152\u0153\u0160\u0161\u0178\u017d\u017e\u0192"
                    "\u02c6\u02dc\u2013-\u203a\u20ac\u2122]")  # fmt: skip
#: Encodings of one byte a character, the likeliest first, with the letters beyond ASCII of the
#: languages that are written in them.
_ALPHABETS = tuple(
    (encoding, frozenset(letters + letters.upper()))
    for encoding, letters in (
        ("Windows-1254", "çğıöşüâîûİ"),
        ("Windows-1250", "ąćęłńóśźż"),
        ("Windows-1250", "áčďéěíňóřšťúůýžäľĺôŕ"),
        ("Windows-1250", "áéíóöőúüű"),
        ("Windows-1250", "ăâîşţșț"),
        ("Windows-1250", "čćđšž"),
        ("CP850", "äöüß"),
        ("CP850", "àâçéèêëîïôûùüÿ"),
        ("CP850", "åäöæøé"),
        ("CP852", "ąćęłńóśźż"),
        ("Mac-Roman", "äöüß"),
        ("Mac-Roman", "àâçéèêëîïôûùüÿœæ"),
    )
)
#: The letters beyond ASCII of the languages that are written in Windows-1252.
_WESTERN = tuple(
    frozenset(letters + letters.upper())
    for letters in (
        "äöüß",
        "àâçéèêëîïôùûüœæ",
        "áéíóúüñ",
        "àèéìòù",
        "åäöæøéü",
        "ãõáéíóúâêôçà",
        "ëïéöü",
    )
)
#: Asked in any case: short texts give the frequencies too little to speak.
_EAST_ASIA = ("Shift_JIS", "EUC-JP", "EUC-KR", "Big5", "GB18030")
_LOOKED_AT = 200_000


def decode(content: bytes, encoding: str | None = None) -> tuple[str, str, list[Remark]]:
    """The text, its encoding, and what is to be said of it.

    Raises Unsupported for what is no text, BadInput for an encoding that is not known or that the
    file does not have.
    """
    if encoding is not None:
        return _said(content, encoding)
    for mark, name in _MARKS.items():
        if content.startswith(mark):
            return _marked(content, name), name, []
    if wide := _wide(content):
        return content.decode(wide), "UTF-16", [Remark("no_byte_order_mark", given="UTF-16")]
    _check_is_text(content)
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return _by_what_comes_out(content)
    return _once(text)


def _said(content: bytes, encoding: str) -> tuple[str, str, list[Remark]]:
    named = {name.casefold(): name for name in ENCODINGS}.get(encoding.strip().casefold())
    if named is None:
        try:
            named = _CODECS.get(codecs.lookup(encoding.strip()).name)
        except (LookupError, ValueError):
            named = None
    if named is None:
        raise BadInput(
            "unknown_encoding",
            f"{encoding!r} is not an encoding that files are read in.",
            f"Choose one of {', '.join(ENCODINGS)}.",
        )
    try:
        text = content.decode(ENCODINGS[named])
    except UnicodeDecodeError as error:
        raise BadInput(
            "wrong_encoding",
            f"The file is not {named}: line {_line(content, error.start)} has the byte"
            f" {content[error.start]:#04x} at {error.start:,}.",
            "Choose another encoding, or save the file as CSV in UTF-8.",
        ) from error
    if "\0" in text:
        raise BadInput(
            "wrong_encoding",
            f"Read as {named}, the file has NUL characters.",
            "Choose another encoding, or save the file as CSV in UTF-8.",
        )
    return text.removeprefix("\ufeff"), named, []


def _marked(content: bytes, name: str) -> str:
    try:
        return content.decode(name).removeprefix("\ufeff")
    except UnicodeDecodeError as error:
        raise Unsupported(
            "wrong_encoding",
            f"The file begins as {name} text but is none at byte {error.start + 2:,}.",
            "Save it as CSV in UTF-8.",
        ) from error


def _wide(content: bytes) -> str | None:
    """UTF-16 without its mark: every second byte of Latin text is zero."""
    head = content[:2_000]
    head = head[: len(head) // 2 * 2]
    half = len(head) // 2
    for name, zeros, others in (
        ("utf-16-le", head[1::2], head[::2]),
        ("utf-16-be", head[::2], head[1::2]),
    ):
        if half >= 4 and zeros.count(0) > half * 0.7 and others.count(0) == 0:
            try:
                text = content.decode(name)
            except UnicodeDecodeError:
                continue
            return name if "\0" not in text else None
    return None


def _check_is_text(content: bytes) -> None:
    # Counting what is left without them is quicker than searching for them.
    if len(content.translate(None, _CONTROL)) == len(content):
        return
    place = next(place for place, byte in enumerate(content) if byte in _CONTROL)
    what = "NUL byte" if content[place] == 0 else "control character"
    raise Unsupported(
        "not_text",
        f"Line {_line(content, place)} has a {what} (at byte {place:,}): this is not a text file.",
        "Export the file as CSV or as a workbook.",
    )


def _line(content: bytes, place: int) -> int:
    return content.count(b"\n", 0, place) + 1


def _once(text: str) -> tuple[str, str, list[Remark]]:
    """UTF-8 that was encoded twice is brought back, line by line."""
    if not _TWICE.search(text):
        return text, "UTF-8", []
    lines = text.split("\n")
    mended = [_again(line) if _TWICE.search(line) else line for line in lines]
    changed = [
        place for place, (one, other) in enumerate(zip(lines, mended, strict=True)) if one != other
    ]
    if not changed:
        return text, "UTF-8", []
    example = f"{lines[changed[0]].strip()[:60]} → {mended[changed[0]].strip()[:60]}"
    return "\n".join(mended), "UTF-8", [Remark("encoded_twice", given=example)]


def _again(line: str) -> str:
    for codec in ("cp1252", "latin-1"):
        try:
            return line.encode(codec).decode()
        except UnicodeError:
            continue
    return line


def _by_what_comes_out(content: bytes) -> tuple[str, str, list[Remark]]:
    mixed = _line_by_line(content)
    if mixed is not None:
        return mixed
    if not _UNDEFINED.search(content):
        text = content.decode("cp1252")
        if _looks_written(text):
            return text, "Windows-1252", []
    for name in _likely(content):
        try:
            text = content.decode(ENCODINGS[name])
        except UnicodeDecodeError:
            continue
        return text, name, [Remark("encoding_doubted", given=_example(text))]
    undefined = _UNDEFINED.search(content)
    if undefined is None:
        text = content.decode("cp1252")
        return text, "Windows-1252", [Remark("encoding_doubted", given=_example(text))]
    raise Unsupported(
        "wrong_encoding",
        f"Line {_line(content, undefined.start())} is neither UTF-8 nor Windows-1252 (byte"
        f" {undefined[0][0]:#04x} at {undefined.start():,}).",
        "Say the file's encoding, or save the file as CSV in UTF-8.",
    )


def _likely(content: bytes) -> Iterator[str]:
    """Encodings that the file may have, the likeliest first: those in which it is written in the
    letters of one language, then those that its frequencies speak for.
    """
    lines = [line for line in content[:_LOOKED_AT].split(b"\n") if not line.isascii()]
    high = b"\n".join(lines)
    for name, alphabet in _ALPHABETS:
        text = _SIGNS.sub(" ", high.decode(ENCODINGS[name], errors="replace"))
        at_home = alphabet.issuperset(_ABOVE_ASCII.findall(text)) and not _UPPER_INSIDE.search(text)
        if at_home and not _strangeness(high, name):
            yield name
    ours = [codec for name, codec in ENCODINGS.items() if not name.startswith("UTF")]
    found = [codecs.lookup(guess.encoding).name for guess in from_bytes(high, cp_isolation=ours)]
    named = [*(_CODECS[name] for name in found if name in _CODECS), *_EAST_ASIA]
    yield from sorted(named, key=lambda name: _strangeness(high, name))


def _strangeness(high: bytes, name: str) -> int:
    """How much of a text stands where no writing has it: marks without a letter of their own, and
    signs inside of words.
    """
    text = high.decode(ENCODINGS[name], errors="replace")
    marks = sum(unicodedata.category(mark) in ("Mn", "Co", "Cn", "Cc") for mark in text)
    signs = re.findall(r"(?<=[^\W\d_])[^\w\s'’.,;:/&()-](?=[^\W\d_]|\s|$)", text)
    return marks - text.count("\n") + len(signs)


def _line_by_line(content: bytes) -> tuple[str, str, list[Remark]] | None:
    """A file that was joined of parts in UTF-8 and in Windows-1252; None where no line is UTF-8
    beyond ASCII.
    """
    lines = content.removeprefix(codecs.BOM_UTF8).split(b"\n")
    proven, other = 0, []
    for place, line in enumerate(lines):
        if line.isascii():
            continue
        try:
            line.decode()
            seen = line.decode("cp1252", errors="replace")
            proven += bool(_TWICE.search(seen)) or not _looks_written(seen)
        except UnicodeDecodeError:
            other.append(place)
    if not proven or any(_UNDEFINED.search(lines[place]) for place in other):
        return None
    strange = set(other)
    text = "\n".join(
        line.decode("cp1252" if place in strange else "utf-8") for place, line in enumerate(lines)
    )
    example = f"line {other[0] + 1}: {lines[other[0]].decode('cp1252').strip()[:80]}"
    return text, "UTF-8 and Windows-1252", [Remark("mixed_encodings", given=example)]


def _looks_written(text: str) -> bool:
    """Whether what is beyond ASCII are signs, and letters in words of a language that is written in
    Windows-1252.
    """
    every = len(_ABOVE_ASCII.findall(text))
    rest = _SIGNS.sub(" ", text)
    sound = every - len(_ABOVE_ASCII.findall(rest))
    for word in re.findall(r"[^\W\d_]*[^\x00-\x7f][^\W\d_]*", rest):
        letters = _ABOVE_ASCII.findall(word)
        known = any(alphabet.issuperset(letters) for alphabet in _WESTERN)
        if known and not _UPPER_INSIDE.search(word):
            sound += len(letters)
    return sound >= every * 0.9


def _example(text: str) -> str:
    line = next(line for line in text.splitlines() if not line.isascii())
    return line.strip()[:120]
