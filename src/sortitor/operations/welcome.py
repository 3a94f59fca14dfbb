"""The welcome card, and the picture on it."""

from __future__ import annotations

import hashlib
import io

from PIL import Image

from sortitor.core.errors import BadInput
from sortitor.core.welcome import WelcomeCard
from sortitor.operations.context import Context, or_not_found
from sortitor.operations.documents import DocumentKind, Wanted
from sortitor.store import pictures, tables
from sortitor.store.documents import Kept, Shelf
from sortitor.store.engine import Connection

WELCOME_ID = 3
MOST_BYTES = 2_000_000
_MOST_PIXELS = 16_000_000
_FORMATS = ("PNG", "JPEG", "WEBP")
#: As large as the card shows it on a sharp screen.
_WIDEST, _HIGHEST = 720, 320


class WelcomeBook(DocumentKind[WelcomeCard]):
    """The welcome card as a document, of which there is one."""

    def called(self, document: WelcomeCard) -> str:
        """There is only one."""
        return "the welcome card"

    def check(self, ctx: Context, connection: Connection, wanted: Wanted[WelcomeCard]) -> None:
        """The picture was uploaded before."""
        digest = wanted.proposed.picture if wanted.proposed else None
        if digest and pictures.content(connection, digest) is None:
            raise BadInput("no_picture", "There is no such picture.", "Upload it first.")


WELCOME = WelcomeBook("welcome card", "welcome", Shelf(WelcomeCard, tables.rulebooks))


def read(ctx: Context) -> Kept[WelcomeCard]:
    """The card with its revision."""
    return WELCOME.one(ctx, WELCOME_ID)


def add_picture(ctx: Context, given: bytes) -> str:
    """Keep a picture, made anew from its pixels alone; gives its digest."""
    content = _made_anew(given)
    digest = hashlib.sha256(content).hexdigest()
    with ctx.changing() as connection:
        pictures.put(connection, digest, content, ctx.now)
        ctx.record(connection, "welcome.picture", "welcome card", "A picture uploaded")
    return digest


def picture(ctx: Context, digest: str) -> bytes:
    """A picture as PNG."""
    with ctx.reading() as connection:
        return or_not_found(pictures.content(connection, digest), "picture", digest)


def _made_anew(given: bytes) -> bytes:
    if len(given) > MOST_BYTES:
        raise _bad(f"It has {len(given):,} bytes; at most {MOST_BYTES:,} are taken.")
    try:
        with Image.open(io.BytesIO(given), formats=_FORMATS) as image:
            if image.width * image.height > _MOST_PIXELS:
                raise _bad(f"It has {image.width} × {image.height} pixels; that is too many.")
            image.thumbnail((_WIDEST, _HIGHEST))
            made = io.BytesIO()
            image.convert("RGBA").save(made, "PNG", optimize=True)
            return made.getvalue()
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise _bad("It is no PNG, JPEG or WebP, or is damaged.") from error


def _bad(why: str) -> BadInput:
    return BadInput("bad_picture", f"This picture cannot be taken. {why}", "Choose another one.")
