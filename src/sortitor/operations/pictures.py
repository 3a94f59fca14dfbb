"""Reading codes out of pictures: a voucher on paper, photographed."""

from __future__ import annotations

import io

import zxingcpp
from PIL import Image

from sortitor.core.errors import BadInput

#: As much as a telephone's camera makes of a sheet of paper.
_MOST_BYTES, _MOST_PIXELS = 15_000_000, 64_000_000
#: Larger pictures are made smaller first; a code on them is still large enough.
_LONGEST = 4_000
_FORMATS = ("PNG", "JPEG", "WEBP", "GIF", "BMP", "TIFF")


def codes_in(given: bytes) -> list[str]:
    """The texts of the codes in a picture (QR code, Data Matrix, Aztec, PDF417), largest first.
    Raises BadInput for what is no picture, or one without a code.
    """
    if len(given) > _MOST_BYTES:
        raise _bad(f"It has {len(given):,} bytes; at most {_MOST_BYTES:,} are taken.")
    try:
        with Image.open(io.BytesIO(given), formats=_FORMATS) as image:
            if image.width * image.height > _MOST_PIXELS:
                raise _bad(f"It has {image.width} × {image.height} pixels; that is too many.")
            image.draft("L", (_LONGEST, _LONGEST))
            # Codes are found whichever way it was held.
            grey = image.convert("L")
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise _bad("It is no picture, or is damaged.") from error
    grey.thumbnail((_LONGEST, _LONGEST))
    found = [code.text for code in zxingcpp.read_barcodes(grey) if code.text]
    if not found:
        raise BadInput(
            "no_code",
            "No code was found in this picture.",
            "Take it closer, straight and in good light; or paste the voucher, or drop its file.",
        )
    return sorted(found, key=len, reverse=True)


def _bad(why: str) -> BadInput:
    return BadInput("bad_picture", f"This picture cannot be read. {why}", "Choose another one.")
