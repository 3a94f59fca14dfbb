"""An issuer of licences: it has keys, which it changes, and makes vouchers, also wrong ones."""

from __future__ import annotations

import base64
import html
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from hashlib import sha256
from pathlib import Path
from typing import Annotated, Any

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from fastapi import FastAPI, Query
from fastapi.responses import HTMLResponse, JSONResponse, PlainTextResponse
from joserfc.jwk import OKPKey


class Wrong(StrEnum):
    """What can be wrong with a voucher on purpose."""

    #: Signed by a key that nobody published.
    KEY = "key"
    #: Not signed at all.
    NONE = "none"
    #: Asks for a header that nobody knows.
    CRITICAL = "critical"
    #: Its seats were changed after it was signed.
    CHANGED = "changed"
    #: Made tomorrow.
    EARLY = "early"
    #: Could be used until yesterday.
    ENDED = "ended"


def _part(value: Any) -> str:
    content = json.dumps(value, separators=(",", ":")).encode()
    return base64.urlsafe_b64encode(content).rstrip(b"=").decode()


class Issuer:
    """An issuer with its keys, newest last; kept in a file where one is given."""

    def __init__(
        self,
        name: str = "Harbour Software",
        file: Path | None = None,
        now: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.name, self._file, self._now = name, file, now
        self.keys: list[OKPKey] = []
        self.made = 0
        if file is not None and file.exists():
            found = json.loads(file.read_text())
            self.keys = [OKPKey.import_key(key) for key in found["keys"]]
            self.made = found["made"]
        else:
            self.rotate()

    def rotate(self, keep: int = 1) -> None:
        """Make a new key; so many of the former ones stay published."""
        key = OKPKey.generate_key("Ed25519")
        self.keys = [*self.keys[len(self.keys) - keep :], key] if keep else [key]
        self._save()

    def jwks(self) -> dict[str, Any]:
        """The public keys, as a JWK Set (RFC 7517)."""
        return {"keys": [self._public(key) for key in self.keys]}

    def _public(self, key: OKPKey) -> dict[str, Any]:
        return {**key.as_dict(private=False), "kid": key.thumbprint(), "use": "sig"}

    def voucher(
        self,
        product: str,
        seats: int,
        days: int,
        trial: bool = False,
        wrong: Wrong | None = None,
        number: str | None = None,
    ) -> str:
        """A voucher as compact JWS (RFC 7515), signed by EdDSA (RFC 8037)."""
        self.made += 1
        self._save()
        now = self._now()
        made_at = now + timedelta(days=1) if wrong is Wrong.EARLY else now
        claims = {
            "iss": self.name,
            "jti": number or f"V-{now:%y%m}-{self.made:04}",
            "iat": int(made_at.timestamp()),
            "product": product,
            "seats": seats,
            "days": days,
            "trial": trial,
        }
        if wrong is Wrong.ENDED:
            claims["exp"] = int((now - timedelta(days=1)).timestamp())
        key = self.keys[-1]
        header: dict[str, Any] = {"alg": "EdDSA", "typ": "voucher+jws", "kid": key.thumbprint()}
        if wrong is Wrong.KEY:
            key = OKPKey.generate_key("Ed25519")
        if wrong is Wrong.NONE:
            return f"{_part({**header, 'alg': 'none'})}.{_part(claims)}."
        if wrong is Wrong.CRITICAL:
            return self._signed(key, {**header, "crit": ["half-price"], "half-price": True}, claims)
        signed = self._signed(key, header, claims)
        if wrong is Wrong.CHANGED:
            first, _, last = signed.split(".")
            return f"{first}.{_part({**claims, 'seats': seats * 10})}.{last}"
        return signed

    def _signed(self, key: OKPKey, header: dict[str, Any], claims: dict[str, Any]) -> str:
        text = f"{_part(header)}.{_part(claims)}"
        private = key.private_key
        assert isinstance(private, Ed25519PrivateKey)
        signature = private.sign(text.encode())
        return f"{text}.{base64.urlsafe_b64encode(signature).rstrip(b'=').decode()}"

    def _save(self) -> None:
        if self._file is None:
            return
        keys = [key.as_dict(private=True) for key in self.keys]
        self._file.parent.mkdir(parents=True, exist_ok=True)
        self._file.touch(mode=0o600)
        self._file.write_text(json.dumps({"keys": keys, "made": self.made}))


def make_issuer(issuer: Issuer) -> FastAPI:
    """The issuer by HTTP: its keys at `/keys`, and a page that makes vouchers."""
    app = FastAPI(title=issuer.name, docs_url=None, redoc_url=None)

    @app.get("/keys")
    def keys() -> JSONResponse:
        content = issuer.jwks()
        etag = sha256(json.dumps(content).encode()).hexdigest()[:16]
        headers = {"etag": f'"{etag}"', "cache-control": "max-age=300"}
        return JSONResponse(content, media_type="application/jwk-set+json", headers=headers)

    @app.post("/keys")
    def rotate() -> JSONResponse:
        issuer.rotate()
        return JSONResponse(issuer.jwks())

    @app.get("/voucher")
    def voucher(
        product: Annotated[str, Query(max_length=100)],
        seats: Annotated[int, Query(ge=1, le=1_000_000)],
        days: Annotated[int, Query(ge=1, le=36_500)],
        trial: bool = False,
        wrong: Annotated[str, Query()] = "",
    ) -> PlainTextResponse:
        fault = Wrong(wrong) if wrong in list(Wrong) else None
        return PlainTextResponse(issuer.voucher(product, seats, days, trial, fault) + "\n")

    @app.get("/")
    def page() -> HTMLResponse:
        return HTMLResponse(_PAGE.replace("NAME", html.escape(issuer.name)))

    return app


_OPTIONS = "".join(f'<option value="{one}">{one}</option>' for one in Wrong)
_PAGE = f"""<!doctype html>
<html lang="en"><meta charset="utf-8"><title>NAME: vouchers</title>
<style>body {{ font: 16px sans-serif; max-width: 40em; margin: 2em auto; }}
label {{ display: block; margin: .6em 0; }}</style>
<h1>NAME</h1>
<p>A made-up issuer of licences. Its public keys are at <a href="/keys">/keys</a>.</p>
<form action="/voucher">
<label>Product <input name="product" value="Harbour signage" required></label>
<label>Seats <input name="seats" type="number" min="1" value="40" required></label>
<label>Days <input name="days" type="number" min="1" value="365" required></label>
<label><input name="trial" type="checkbox" value="true"> For trial</label>
<label>Wrong on purpose <select name="wrong"><option value="">no</option>{_OPTIONS}</select></label>
<button>Make a voucher</button>
</form>
</html>"""
