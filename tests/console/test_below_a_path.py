"""Behind a proxy that puts the service below a path of its host."""

import re
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from http.client import HTTPConnection, HTTPResponse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx
from playwright.sync_api import Browser, expect
from tests.worlds import PASSWORD, World, http, import_lot, manifest

BELOW = "/tools/sortitor"


class _Proxy(BaseHTTPRequestHandler):
    """Takes the path off, as deploy/proxy.conf does; anything else of the host is not ours."""

    protocol_version = "HTTP/1.1"
    inside = ""

    def _pass_on(self) -> None:
        if not self.path.startswith(f"{BELOW}/"):
            self.send_response(404)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        length = int(self.headers.get("Content-Length") or 0)
        headers = {**self.headers, "Accept-Encoding": "identity"}
        asked = self.rfile.read(length)
        with closing(HTTPConnection(self.inside, timeout=60)) as line:
            line.request(self.command, self.path.removeprefix(BELOW), asked, headers)
            answer = line.getresponse()
            stream = "event-stream" in (answer.headers["Content-Type"] or "")
            body = b"" if stream else answer.read()
        # A page that is left does not wait for what it asked for.
        with suppress(BrokenPipeError, ConnectionResetError):
            self._answer(answer, body)

    def _answer(self, answer: HTTPResponse, body: bytes) -> None:
        self.send_response(answer.status)
        for name, value in answer.headers.items():
            if name.lower() not in ("content-length", "transfer-encoding", "connection"):
                self.send_header(name, value)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_HEAD = do_POST = do_PUT = do_PATCH = do_DELETE = _pass_on

    def log_message(self, *_: object) -> None:
        """Nothing."""


@contextmanager
def proxied() -> Iterator[tuple[str, type[_Proxy]]]:
    handler = type("Proxy", (_Proxy,), {})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}{BELOW}", handler
    finally:
        server.shutdown()
        server.server_close()


def test_every_link_is_below_it(
    browser: Browser, make_world: Callable[..., World], tmp_path: Path
) -> None:
    with proxied() as (url, handler):
        world = make_world(public_url=url)
        handler.inside = world.url.removeprefix("http://")
        import_lot(world.client(), manifest(tmp_path, ["serial,platform", "KM-1,android"]))
        strays: list[str] = []
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.on(
            "request",
            lambda asked: (
                None if asked.url.startswith((url, "data:")) else strays.append(asked.url)
            ),
        )
        page.goto(f"{url}/")
        page.get_by_label("Account").fill("coordinator")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("navigation").get_by_role("link", name="Devices").click()
        expect(page.get_by_role("link", name="KM-1").first).to_be_visible()
        assert page.url.startswith(f"{url}/devices")
        asked: list[str] = []
        page.on("request", lambda one: asked.append(one.url))
        page.reload()
        expect(page.get_by_role("heading", name="Devices", level=1)).to_be_visible()
        assert asked.count(f"{url}/api/v1/session") == 1
        assert not [one for one in asked if one.count(BELOW) > 1], "the path stands there once"
        with page.expect_popup() as opened:
            page.get_by_role("link", name="Handbook").click()
        expect(opened.value).to_have_url(re.compile(re.escape(f"{url}/handbook/")))
        assert page.goto(f"{url}/lots/1") is not None
        with page.expect_download() as coming:
            page.get_by_role("link", name="The file as given").click()
        assert "KM-1" in Path(coming.value.path()).read_text()
        assert strays == []
        cookie = next(one for one in context.cookies() if one["name"] == "sortitor_session")
        assert cookie["path"] == f"{BELOW}/"
        context.close()
        with http(world) as client:
            made = client.post("/api/v1/pools", json={"name": "Signage", "seats": 1})
            assert made.headers["location"] == f"{BELOW}/api/v1/pools/1"
            paged = client.get("/api/v1/journal?limit=1")
            assert f"<{BELOW}/api/v1/journal?" in paged.headers["link"]
            asked = client.post("/api/v1/levels/compare", headers={"Prefer": "respond-async"})
            assert asked.headers["location"] == f"{BELOW}/api/v1/jobs/{asked.json()['id']}"
            assert asked.json()["result"] == f"{BELOW}/api/v1/levels"
            code = client.post("/api/v1/passes", json={"label": "x"}).json()
            assert code["url"].startswith(f"{url}/welcome#")
            described = client.get("/api/v1/openapi.json").json()
            assert described["servers"][0]["url"] == f"{BELOW}/"
        welcome = httpx.get(f"{url}/welcome")
        assert f'"{BELOW}/assets/' in welcome.text
