# Made by tools/async_client.py; change the module of the same name one folder up.
"""Sources, their runs, credentials and rosters; registries."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from pathlib import Path

from sortitor.client.aio.documents import Documents
from sortitor.client.aio.noun import Key, Noun, at
from sortitor.core.vocabulary import SecretKind
from sortitor.schemas import sources as s
from sortitor.schemas.base import Preview
from sortitor.schemas.jobs import Job

_BYTES = {"Content-Type": "application/octet-stream"}


class Sources(Documents[s.Source, s.SourceDetail]):
    """Sources."""

    path = "/sources"
    answer = s.SourceDetail
    model = s.Source

    async def run(self, key: Key, whole: bool = True, unbraked: bool = False) -> Job:
        """Read a source now; follow the job with `jobs.follow`.

        >>> s.sources.run("Harbour registry")
        """
        given = s.RunAsked(whole=whole, unbraked=unbraked)
        return await self._t.call(Job, "POST", at("/sources", key, "runs"), json=given)

    async def preview_run(self, key: Key) -> Preview:
        """What reading it whole would change now.

        >>> s.sources.preview_run("Harbour registry")
        """
        return await self._t.call(Preview, "POST", at("/sources", key, "runs/preview"))

    async def preview_scope(self, key: Key, document: s.Source) -> Preview:
        """What the next run would change if the source were as given.

        >>> s.sources.preview_scope("Harbour registry", document)
        """
        return await self._t.call(
            Preview, "POST", at("/sources", key, "scope/preview"), json=document
        )

    def runs(self, key: Key | None = None, most: int | None = None) -> AsyncIterator[s.SourceRun]:
        """Runs, newest first.

        >>> s.sources.runs()
        """
        return self._t.pages(s.SourceRun, "/source-runs", {"source": key}, most)

    async def show_run(self, run_id: int) -> s.SourceRun:
        """One run with what it changed.

        >>> s.sources.show_run(21)
        """
        return await self._t.call(s.SourceRun, "GET", f"/source-runs/{run_id}")

    def devices(
        self, key: Key, query: str | None = None, unknown: bool = False, most: int | None = None
    ) -> AsyncIterator[s.RosterLine]:
        """What a source says of devices.

        >>> s.sources.devices("Harbour registry")
        """
        params = {"query": query, "unknown": unknown or None}
        return self._t.pages(s.RosterLine, at("/sources", key, "devices"), params, most)

    async def preview_file(self, key: Key, path: Path) -> Preview:
        """What a roster file would change.

        >>> s.sources.preview_file("Harbour registry", Path("file.csv"))
        """
        return await self._t.call(
            Preview,
            "POST",
            at("/sources", key, "file/preview"),
            content=path.read_bytes(),
            headers=_BYTES,
        )

    async def take_file(self, key: Key, path: Path, digest: str) -> s.SourceRun:
        """Take a roster file over as previewed.

        >>> s.sources.take_file("Harbour registry", Path("file.csv"), preview.digest)
        """
        return await self._t.call(
            s.SourceRun,
            "POST",
            at("/sources", key, "file"),
            content=path.read_bytes(),
            params={"digest": digest},
            headers=_BYTES,
        )

    async def diagnosis(self, key: Key) -> str:
        """What to hand to whoever helps; no secret.

        >>> s.sources.diagnosis("Harbour registry")
        """
        return (await self._t.send("GET", at("/sources", key, "diagnosis"))).text

    async def give(self, key: Key, text: str, kind: SecretKind | None = None) -> s.CredentialTaken:
        """Give what opens a source, as it was given out.

        >>> s.sources.give("Harbour registry", text)
        """
        given = s.Credential(text=text, kind=kind)
        return await self._t.call(
            s.CredentialTaken, "POST", at("/sources", key, "credentials"), json=given
        )

    async def forget(self, key: Key, kind: SecretKind, reason: str | None = None) -> None:
        """Forget what opens a source.

        >>> s.sources.forget("Harbour registry", kind)
        """
        params = {"reason": reason}
        await self._t.send("DELETE", at("/sources", key, f"credentials/{kind}"), params=params)

    async def make_key(self, key: Key) -> str:
        """Make a key pair for a registry; gives the certificate (PEM) that is taken there.

        >>> s.sources.make_key("Harbour registry")
        """
        return (await self._t.send("POST", at("/sources", key, "key"))).text

    async def certificate(self, key: Key) -> str:
        """The certificate (PEM) that is to be taken to the registry.

        >>> s.sources.certificate("Harbour registry")
        """
        return (await self._t.send("GET", at("/sources", key, "certificate"))).text

    async def signing_request(self, key: Key) -> str:
        """A certificate signing request (PEM) for a source's key.

        >>> s.sources.signing_request("Harbour registry")
        """
        return (await self._t.send("GET", at("/sources", key, "signing-request"))).text

    async def test(self, key: Key) -> s.SourceLook:
        """Whether a source can be reached and opened now.

        >>> s.sources.test("Harbour registry")
        """
        return await self._t.call(s.SourceLook, "POST", at("/sources", key, "test"))

    async def sample(self, key: Key, document: s.Source) -> s.SourceLook:
        """Up to three real entries, read as the given document says.

        >>> s.sources.sample("Harbour registry", document)
        """
        return await self._t.call(
            s.SourceLook, "POST", at("/sources", key, "sample"), json=document
        )


class Registries(Noun):
    """What a registry holds, and what it is asked to do."""

    async def find(self, source: Key, query: str) -> Sequence[s.HeldDevice]:
        """What it holds under a serial number, IMEI, order or reseller, newest first.

        >>> s.registries.find("Harbour registry", "GK4T")
        """
        return await self._t.whole(
            s.HeldDevice, "GET", at("/sources", source, "held"), params={"query": query}
        )

    async def preview(self, source: Key, asked: s.RegistryActAsked) -> Preview:
        """What it would do, and what it would refuse.

        >>> s.registries.preview("Harbour registry", asked)
        """
        return await self._t.call(
            Preview, "POST", at("/sources", source, "acts/preview"), json=asked
        )

    async def act(
        self, source: Key, asked: s.RegistryActAsked, digest: str, reason: str | None = None
    ) -> Preview:
        """Let it do as previewed.

        >>> s.registries.act("Harbour registry", asked, preview.digest)
        """
        given = s.RegistryActApply(**asked.model_dump(), digest=digest, reason=reason)
        return await self._t.call(Preview, "POST", at("/sources", source, "acts"), json=given)
