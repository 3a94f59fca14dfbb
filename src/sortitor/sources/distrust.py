"""Why the certificate of another system is not trusted, out of what OpenSSL and its callers say."""

from __future__ import annotations

_BEFORE, _AFTER = "certificate verify failed: ", " (_ssl"


def why_distrusted(text: str) -> str:
    """OpenSSL's own words; all of the text where it has none."""
    return text.rpartition(_BEFORE)[2].partition(_AFTER)[0] or text
