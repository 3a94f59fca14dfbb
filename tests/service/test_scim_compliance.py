"""A compliance tester that others wrote finds no fault with the people interface."""

from __future__ import annotations

from httpx2 import Client
from scim2_client.engines.httpx2 import SyncSCIMClient
from scim2_tester import Status, check_server
from tests.worlds import World

from sortitor.core.vocabulary import Purpose, Role


def test_the_compliance_tester_finds_no_fault(world: World) -> None:
    token = world.in_person().accounts.add_token("directory", Role.COORDINATOR, 30, Purpose.PEOPLE)
    headers = {"Authorization": f"Bearer {token.secret}"}
    with Client(base_url=f"{world.url}/scim/v2", headers=headers, timeout=30) as http:
        results = check_server(SyncSCIMClient(http))
    wrong = [
        f"{one.title}: {one.reason}"
        for one in results
        if one.status not in (Status.SUCCESS, Status.SKIPPED)
    ]
    assert len(results) > 100
    assert not wrong, "\n".join(wrong)
