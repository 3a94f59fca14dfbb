"""A made-up device that works through what it gets: quick or slow, it fails at times, and some
forget to come back.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

from sortitor.client import Sortitor
from sortitor.core.kits.items import FilePayload, FirmwarePayload
from sortitor.core.vocabulary import ItemState
from sortitor.schemas.kits import AgentItem, AgentKit, AgentReport

#: Why an item fails, at times: (kind, code, words).
_TROUBLE = (
    ("app", "no_space", "Not enough space left on the device"),
    ("document", "no_space", "Not enough space left on the device"),
    ("network", "not_joined", "The network refused the device"),
    ("script", "exit_1", "The script ended with 1"),
)
_LOG = "09:12:04 fetching\n09:12:09 {words}\n09:12:09 gave up after 3 tries\n"


@dataclass
class Worker:
    """One device. `fails`, `forgets`, `lingers`: how likely an item fails, the device stops for
    good, or an item takes a step longer.
    """

    s: Sortitor
    credential: str
    random: Random
    fails: float = 0.06
    forgets: float = 0.02
    lingers: float = 0.2
    kit: AgentKit | None = None
    _left: Iterator[AgentItem] = field(default_factory=lambda: iter(()))
    _busy: AgentItem | None = None

    def fetch(self) -> bool:
        """Look for what it gets; whether that is another than it knew."""
        found = self.s.agent.kit(self.credential, self.kit.revision if self.kit else None)
        if found is None:
            return False
        self.kit, self._busy = found, None
        self._left = iter([one for one in found.items if not one.needs_hand])
        return True

    def step(self) -> bool:
        """Finish the item that it is busy with and begin the next; whether it goes on."""
        told = []
        if self._busy is not None:
            if self.random.random() < self.lingers:
                return True
            if self.random.random() < self.forgets:
                self._left, self._busy = iter(()), None
                return False
            self._bring(self._busy)
            told.append(self._ended(self._busy))
        self._busy = next(self._left, None)
        if self._busy is not None:
            told.append(self._report(self._busy, ItemState.WORKING))
        if told:
            self.s.agent.report(self.credential, *told)
        return self._busy is not None

    def _bring(self, item: AgentItem) -> None:
        """Fetch a file that the service keeps."""
        payload = item.payload
        if isinstance(payload, FilePayload) and payload.address is None:
            with TemporaryDirectory() as folder:
                self.s.agent.file(self.credential, payload.digest, Path(folder) / "file")

    def _ended(self, item: AgentItem) -> AgentReport:
        trouble = [one for one in _TROUBLE if one[0] == item.payload.kind]
        if isinstance(item.payload, FirmwarePayload):
            # It begins anew with the wanted system, and says so at its next sign of life.
            self.s.agent.check_in(self.credential, item.payload.wanted)
        if trouble and self.random.random() < self.fails:
            _, code, words = trouble[0]
            log = _LOG.format(words=words)
            return self._report(item, ItemState.FAILED, code=code, words=words, log=log)
        return self._report(item, ItemState.DONE)

    def _report(
        self,
        item: AgentItem,
        state: ItemState,
        code: str | None = None,
        words: str | None = None,
        log: str | None = None,
    ) -> AgentReport:
        return AgentReport(
            item=item.id, revision=item.revision, state=state, code=code, words=words, log=log
        )
