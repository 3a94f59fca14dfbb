"""Vouchers in tests: an issuer whose keys are known, and their use."""

import json
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from sortitor.client import Sortitor
from sortitor.core.sources import Source
from sortitor.core.vocabulary import Act, SourceKind
from sortitor.schemas.licences import Grant
from sortitor.stand_ins.issuer import Issuer

NAME = "Harbour Software"


def trust(s: Sortitor, issuer: Issuer, folder: Path) -> None:
    """Hand the keys of an issuer over; make it a source first where it is none."""
    if NAME not in {source.name for source in s.sources.list()}:
        s.sources.add(Source(name=NAME, kind=SourceKind.ISSUER))
    path = folder / "keys.json"
    path.write_text(json.dumps(issuer.jwks()))
    s.sources.take_file(NAME, path, s.sources.preview_file(NAME, path).digest)


def an_issuer(s: Sortitor, folder: Path, now: Callable[[], datetime]) -> Issuer:
    """An issuer whose keys are known."""
    made = Issuer(now=now)
    trust(s, made, folder)
    return made


def use(s: Sortitor, pool: int | str, text: str, act: Act = Act.TOP_UP) -> Grant:
    """Use a voucher as previewed."""
    return s.pools.apply_grant(pool, text, act, s.pools.preview_grant(pool, text, act).digest)
