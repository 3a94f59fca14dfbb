"""What the routes are given: the engine, the clock and the bounds, made once at start-up."""

from __future__ import annotations

from dataclasses import dataclass, field

from sortitor.api.http.measures import Measures
from sortitor.api.http.rates import Counter, Rates
from sortitor.api.http.sign_ins import SignIns
from sortitor.operations.checkins import CheckIns, Pool
from sortitor.operations.context import Clock, Engine, Limits
from sortitor.operations.following import Following, Glance
from sortitor.operations.kits.ports import Storage, no_storage
from sortitor.operations.sources.ports import Outside, unreachable
from sortitor.operations.vault import Vault, new_key
from sortitor.operations.waking import Waking


@dataclass(slots=True)
class Service:
    """One running service; `check_ins` is there once its pool is open."""

    engine: Engine
    clock: Clock
    limits: Limits
    async_pool: Pool
    max_upload_bytes: int
    secure_cookies: bool = False
    #: How long a body and a whole request may take.
    body_seconds: float = 20
    request_seconds: float = 300
    #: Whose pages may call it with a token.
    origins: tuple[str, ...] = ()
    metrics_token: str | None = None
    #: For digests of what requests hold: without it, a digest of a password could be guessed.
    digest_key: bytes = b""
    #: Of the key that signs the journal's head.
    seal_seed: bytes = bytes(32)
    #: What speaks to other systems, and what opens them.
    outside: Outside = unreachable
    vault: Vault = field(default_factory=lambda: Vault([new_key()]))
    #: Where files lie that are kept for devices.
    storage: Storage = no_storage
    #: A copy of the database for heavy reads.
    standby: Engine | None = None
    counter: Counter = field(default_factory=lambda: Counter(Rates()))
    sign_ins: SignIns = field(default_factory=SignIns)
    door_sign_ins: SignIns = field(default_factory=SignIns)
    following: Following = field(default_factory=lambda: Following(""))
    check_ins: CheckIns | None = None
    measures: Measures = field(default_factory=Measures)
    #: Devices that wait to be woken.
    waking: Waking | None = None
    #: The board of arrivals, looked at once a second for everybody who follows it.
    board: Glance = field(default_factory=Glance)

    @property
    def public_url(self) -> str:
        """The address for links and QR codes. What a request calls this host is not believed."""
        return self.limits.public_url

    @property
    def tls(self) -> bool:
        """Whether people reach the service over TLS."""
        return self.secure_cookies or self.limits.public_url.startswith("https://")
