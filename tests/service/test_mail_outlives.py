"""A service that is killed between what it decides and the mail that tells of it loses neither."""

from __future__ import annotations

import json
import re
import threading
import time
from email.message import EmailMessage
from pathlib import Path

from tests.processes import serve
from tests.worlds import Database, import_people, knocking

from sortitor.client import Sortitor
from sortitor.core.vocabulary import Activation, Outcome, Role
from sortitor.schemas.passes import PassTerms
from sortitor.stand_ins.mailbox import Mailbox, MailServer


def test_a_pass_that_was_made_before_the_kill_is_mailed_after_it(
    database: Database, tmp_path: Path
) -> None:
    url = database.fresh()
    token = database.tokens[Role.COORDINATOR]
    with MailServer() as server:
        environment = {
            "SORTITOR_DATABASE_URL": url,
            "SORTITOR_MAIL_HOST": "127.0.0.1",
            "SORTITOR_MAIL_PORT": str(server.port),
            "SORTITOR_MAIL_SECURITY": "none",
            "SORTITOR_MAIL_FROM": "Devices <devices@wrenmoor.example>",
        }
        # Nobody sends while this one lives; it dies as soon as its answer is there.
        with serve(**environment, SORTITOR_WORKER="false") as process:
            with Sortitor(process.url, token) as s:
                import_people(s, tmp_path, "maud,Maud Fenwick,maud@wrenmoor.example,,,Crew")
                terms = PassTerms(label="Handing out", person="maud", activation=Activation.PERSON)
                s.passes.add(terms, mailed=True)
            former = process.url
            process.kill()
            assert server.mailbox.to("maud@wrenmoor.example") == []
            process.environment["SORTITOR_WORKER"] = "true"
            process.start()
            until = time.monotonic() + 60
            while not server.mailbox.to("maud@wrenmoor.example") and time.monotonic() < until:
                time.sleep(0.2)
            time.sleep(1)
            [mail] = server.mailbox.to("maud@wrenmoor.example")
            code = re.search(rf"{former}/welcome#(\w+)", mail.get_content())
            assert code, mail.get_content()
            with Sortitor(process.url) as device:
                answer = device.agent.knock(knocking(code[1], "KM-1"))
            assert answer.outcome is Outcome.ADMITTED
    database.drop(url)


def test_a_mailbox_is_read_while_mails_come() -> None:
    mailbox = Mailbox()
    mail = EmailMessage()
    mail["To"], mail["Subject"] = "maud@wrenmoor.example", "Your pass"
    mail.set_content("It is here.")
    ended = threading.Event()

    def fill() -> None:
        while not ended.is_set():
            mailbox.mails.append(mail)

    filling = threading.Thread(target=fill)
    filling.start()
    try:
        for _ in range(20):
            assert isinstance(json.loads(mailbox.as_json()), list)
            assert "Mailbox" in mailbox.as_page()
            mailbox.to("maud@wrenmoor.example")
    finally:
        ended.set()
        filling.join()
