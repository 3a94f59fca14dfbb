"""`sortitor simulate`: a made-up fleet at the gate."""

from __future__ import annotations

import time
from collections import Counter
from random import Random

import click
from rich.progress import Progress

from sortitor.cli.connection import with_client
from sortitor.cli.output import console, plain, talk
from sortitor.client import Sortitor
from sortitor.core.vocabulary import Platform
from sortitor.stand_ins import fleet, numbers
from sortitor.stand_ins.fleet import Behaviour
from sortitor.stand_ins.kits import Worker
from sortitor.stand_ins.mails import newest_code


@click.command()
@click.option("--code", required=True, help="The code of a pass.")
@click.option(
    "--count",
    type=click.IntRange(1, 100_000),
    default=20,
    show_default=True,
    help="How many devices knock.",
)
@click.option(
    "--platform",
    type=click.Choice([x.value for x in Platform]),
    default="android",
    show_default=True,
    help="What they run.",
)
@click.option("--os", "os_version", default="14", show_default=True, help="Their OS version.")
@click.option("--person", help="Who holds them all.")
@click.option(
    "--check-ins",
    type=click.IntRange(0, 1_000),
    default=1,
    show_default=True,
    help="How often each checks in afterwards.",
)
@click.option(
    "--way",
    "behaviour",
    type=click.Choice([one.value for one in Behaviour]),
    help="How each takes the way in, step by step: answers what it is asked, fails, gives up …",
)
@click.option("--mail", default="", help="The person's mail address, to which codes are sent.")
@click.option(
    "--mailbox",
    default="http://127.0.0.1:8471",
    show_default=True,
    help="Where the demonstration's mails are read.",
)
@click.option(
    "--kits",
    "with_kits",
    is_flag=True,
    help="Each fetches what it gets and works it through; some fail, some forget to come back.",
)
@click.option(
    "--seed", type=int, default=1, show_default=True, help="The same seed makes the same devices."
)
@with_client
def simulate(
    s: Sortitor,
    code: str,
    count: int,
    platform: str,
    os_version: str,
    person: str | None,
    check_ins: int,
    behaviour: str | None,
    mail: str,
    mailbox: str,
    with_kits: bool,
    seed: int,
) -> None:
    """Let made-up devices knock with a pass and check in, over HTTP as real ones do.

    \b
    Examples:
      sortitor simulate --code 7K3QX-9M2PA --count 60
      sortitor simulate --code 7K3QX-9M2PA --count 10 --kits
      sortitor simulate --code 7K3QX-9M2PA --count 1 --person maud.fenwick \\
        --mail maud.fenwick@wrenmoor.example --way comes-back
    """
    random = Random(seed)
    devices = [
        fleet.Hardware(
            Platform(platform),
            os_version,
            "Simulated",
            "Model 1",
            numbers.serial(random, "SIM"),
            numbers.imei(random) if platform in ("android", "ios") else None,
            person,
        )
        for _ in range(count)
    ]
    outcomes: Counter[str] = Counter()
    codes: Counter[str] = Counter()
    credentials = []
    with Progress(console=console(stderr=True), transient=True) as progress:
        task = progress.add_task("knocking", total=count)
        started = time.perf_counter()
        if behaviour:

            def read_code(address: str) -> str | None:
                return newest_code(mailbox, address)

            answers = (
                fleet.Traveller(s, device, mail, read_code).arrive(code, Behaviour(behaviour))
                for device in devices
            )
        else:
            answers = (answer for _, answer in fleet.knock_all(s, code, devices))
        for answer in answers:
            outcomes[answer.outcome] += 1
            codes.update(answer.codes)
            credentials += [answer.credential] if answer.credential else []
            progress.advance(task)
        seconds = time.perf_counter() - started
        for _ in range(check_ins):
            for credential in credentials:
                s.agent.check_in(credential)
        if with_kits:
            _work_through(s, credentials, random)
    for outcome, number in sorted(outcomes.items()):
        plain(f"{number:>7,}  {outcome}")
    for reason, number in codes.most_common():
        plain(f"{number:>7,}  {reason}")
    talk(
        f"{count:,} knocks in {seconds:.1f} s, {len(credentials) * check_ins:,} check-ins. Next:"
        " sortitor arrival list"
    )


def _work_through(s: Sortitor, credentials: list[str], random: Random) -> None:
    """Let devices fetch what they get and work it through, all a step at a time."""
    working = [Worker(s, credential, random) for credential in credentials]
    for device in working:
        device.fetch()
    while working:
        working = [device for device in working if device.step()]
