"""The agent protocol, as devices and relays speak it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sortitor.client.noun import Noun, at
from sortitor.schemas import arrivals as r
from sortitor.schemas import kits as k


class Agent(Noun):
    """The agent protocol."""

    def knock(self, given: r.Knock, credential: str | None = None) -> r.KnockAnswer:
        """Arrive as a device; one that is in use shows its credential.

        >>> s.agent.knock(given)
        """
        headers = {"Authorization": f"Bearer {credential}"} if credential else {}
        return self._t.call(r.KnockAnswer, "POST", "/agent/knock", json=given, headers=headers)

    def announce(self, given: r.Announced) -> int:
        """Tell of a machine before it arrives, with a pass; gives the draft lot's number.

        >>> s.agent.announce(given)
        """
        return self._t.call(r.AnnouncedLot, "POST", "/agent/announce", json=given).lot_id

    def way(self, secret: str, language: str | None = None) -> r.WayIn:
        """How far the arrival of a secret is.

        >>> s.agent.way(secret)
        """
        return self._t.call(
            r.WayIn, "GET", "/agent/way", params={"language": language}, headers=_bearer(secret)
        )

    def send_code(self, secret: str, person: str) -> r.WayIn:
        """Let a code be sent to a person's mail address.

        >>> s.agent.send_code(secret, "maud.fenwick")
        """
        return self._t.call(
            r.WayIn,
            "POST",
            "/agent/way/code",
            json=r.CodeWanted(person=person),
            headers=_bearer(secret),
        )

    def sign_in(self, secret: str, code: str) -> r.WayIn:
        """Type the code that was sent.

        >>> s.agent.sign_in(secret, "031745")
        """
        return self._t.call(
            r.WayIn,
            "POST",
            "/agent/way/sign-in",
            json=r.CodeTyped(code=code),
            headers=_bearer(secret),
        )

    def sign_in_by_password(self, secret: str, person: str, password: str) -> r.WayIn:
        """Sign in with the directory's password.

        >>> s.agent.sign_in_by_password(secret, "maud.fenwick", password)
        """
        given = {"person": person, "password": password}
        return self._t.call(
            r.WayIn, "POST", "/agent/way/password", json=given, headers=_bearer(secret)
        )

    def answer(self, secret: str, answers: r.WayAnswers) -> r.WayIn:
        """Answer what is asked.

        >>> s.agent.answer(secret, answers)
        """
        return self._t.call(
            r.WayIn, "POST", "/agent/way/answers", json=answers, headers=_bearer(secret)
        )

    def collect(self, secret: str) -> r.KnockAnswer:
        """The decision with the credential, this once.

        >>> s.agent.collect(secret)
        """
        return self._t.call(r.KnockAnswer, "POST", "/agent/way/collect", headers=_bearer(secret))

    def progress(self, credential: str, told: r.ProgressTold) -> None:
        """Tell how far the setting up is.

        >>> s.agent.progress(credential, told)
        """
        self._t.send("POST", "/agent/progress", json=told, headers=_bearer(credential))

    def wait(self, credential: str, seconds: int = 60) -> bool:
        """Wait to be woken; gives whether the device has to look now.

        >>> s.agent.wait(credential)
        """
        given = k.Wait(seconds=seconds)
        headers = _bearer(credential)
        return self._t.call(
            k.Waited, "POST", "/agent/check-in/wait", json=given, headers=headers
        ).woken

    def kit(self, credential: str, known: str | None = None) -> k.AgentKit | None:
        """What the device gets; None where it is of the revision that it knows.

        >>> s.agent.kit(credential)
        """
        headers = _bearer(credential)
        if known:
            headers["If-None-Match"] = f'"{known}"'
        response = self._t.send("GET", "/agent/kit", headers=headers)
        if response.status_code == 304:
            return None
        return k.AgentKit.model_validate(response.json())

    def file(self, credential: str, digest: str, to: Path, begin: int = 0) -> None:
        """Write a file that an item of the device brings to a path, from a byte on.

        >>> s.agent.file(credential, preview.digest, Path("file.csv"))
        """
        headers = _bearer(credential) | ({"Range": f"bytes={begin}-"} if begin else {})
        self._t.download(at("/agent/files", digest), to, headers=headers)

    def report(self, credential: str, *reports: k.AgentReport) -> None:
        """Tell how far the device is with its items.

        >>> s.agent.report(credential)
        """
        given = k.AgentReports(reports=list(reports))
        self._t.send("POST", "/agent/reports", json=given, headers=_bearer(credential))

    def check_in(self, credential: str, os_version: str | None = None) -> r.CheckInAnswer:
        """Give a sign of life as a device.

        >>> s.agent.check_in(credential)
        """
        headers = {"Authorization": f"Bearer {credential}"}
        return self._t.call(
            r.CheckInAnswer,
            "POST",
            "/agent/check-in",
            json=r.CheckIn(os_version=os_version),
            headers=headers,
        )

    def relay(self, check_ins: Sequence[r.RelayedCheckIn]) -> r.RelayAnswer:
        """Hand in up to 1,000 check-ins.

        >>> s.agent.relay(check_ins)
        """
        return self._t.call(
            r.RelayAnswer, "POST", "/agent/check-ins", json=r.Relay(check_ins=list(check_ins))
        )


def _bearer(secret: str) -> dict[str, str]:
    return {"Authorization": f"Bearer {secret}"}
