"""The platform catalogue: what each platform calls itself, which identifiers it has, how long a
name may be.
"""

from __future__ import annotations

from dataclasses import dataclass

from sortitor.core.vocabulary import IdentifierKind, Platform


@dataclass(frozen=True, slots=True)
class PlatformFacts:
    """`name_length` is the longest device name in characters; `synonyms` are lower case."""

    platform: Platform
    synonyms: tuple[str, ...]
    identifiers: frozenset[IdentifierKind]
    name_length: int


_K = IdentifierKind
_MOBILE = frozenset({_K.SERIAL, _K.IMEI, _K.MEID, _K.EID, _K.MAC})
_COMPUTER = frozenset({_K.SERIAL, _K.MAC, _K.UUID, _K.FINGERPRINT})

CATALOGUE: dict[Platform, PlatformFacts] = {
    facts.platform: facts
    for facts in (
        PlatformFacts(Platform.ANDROID, ("android os",), _MOBILE, 63),
        PlatformFacts(Platform.IOS, ("ipados", "iphone os"), _MOBILE, 63),
        # Some have a modem. A NetBIOS computer name holds 15 characters.
        PlatformFacts(
            Platform.WINDOWS, ("win", "windows 10", "windows 11"), _COMPUTER | {_K.IMEI, _K.EID}, 15
        ),
        PlatformFacts(Platform.MACOS, ("mac os", "os x"), _COMPUTER, 63),
        PlatformFacts(Platform.LINUX, ("gnu/linux",), _COMPUTER, 63),
    )
}

SYNONYMS: dict[str, str] = {
    word: facts.platform.value
    for facts in CATALOGUE.values()
    for word in (facts.platform.value, *facts.synonyms)
}
