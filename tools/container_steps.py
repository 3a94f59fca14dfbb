"""Runs the steps of deploy/Containerfile in a bare Debian, where there is no container engine, and
asks the service whether it is ready. Needs root; takes some minutes. Argument: the folder.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.request import urlopen

HERE = Path(__file__).parents[1]
FILE = HERE / "deploy/Containerfile"
PORT = "8479"


def steps() -> Iterator[tuple[str, str]]:
    """Instruction and argument, one by one; what is continued is one line."""
    text = re.sub(r"^#.*\n", "", FILE.read_text(), flags=re.M).replace("\\\n", " ")
    for line in filter(str.strip, text.splitlines()):
        word, _, rest = line.partition(" ")
        yield word, rest.strip()


def run(*words: str | Path, **more: object) -> None:
    """A command that must succeed."""
    print("+", *words, flush=True)
    subprocess.run([str(word) for word in words], check=True, **more)  # type: ignore[call-overload]


def main(root: Path) -> None:
    """Build the wheel, make the bare Debian, run the steps, start the service and ask it."""
    wheels = Path(tempfile.mkdtemp())
    run(sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "-w", wheels, HERE)
    run("debootstrap", "--variant=minbase", "bookworm", root, stdout=subprocess.DEVNULL)
    environment, user = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}, "root"
    for name in ("PIP_CERT", "PIP_INDEX_URL", "HTTPS_PROXY"):
        environment |= {name: os.environ[name]} if name in os.environ else {}
    command: list[str] = []
    for word, rest in steps():
        if word == "RUN":
            _share(root)
            run("chroot", root, "sh", "-c", rest, env=environment)
        elif word == "COPY":
            for wheel in wheels.glob("*.whl"):
                shutil.copy(wheel, root / "tmp")
        elif word == "USER":
            user = rest
        elif word == "ENV":
            for pair in rest.split():
                name, _, value = pair.partition("=")
                environment[name] = value.replace("$PATH", environment["PATH"])
        elif word == "CMD":
            command = re.findall(r'"([^"]+)"', rest)
    environment |= {"SORTITOR_PORT": PORT, "SORTITOR_DATABASE_URL": os.environ["DATABASE_URL"]}
    served = ["chroot", f"--userspec={user}:{user}", str(root), *command]
    with subprocess.Popen(served, env=environment) as process:
        try:
            _await_ready(process)
        finally:
            process.terminate()
        assert process.wait(30) == 0, "it ends with 0"
    print("Every step ran, and the service was ready.")


def _share(root: Path) -> None:
    """Names and authorities of this machine; a package that is installed writes its own."""
    for name in ("etc/resolv.conf", "etc/hosts", "etc/ssl/certs/ca-certificates.crt"):
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(Path("/") / name, root / name)


def _await_ready(process: subprocess.Popen[bytes]) -> None:
    until = time.monotonic() + 60
    while time.monotonic() < until and process.poll() is None:
        try:
            with urlopen(f"http://127.0.0.1:{PORT}/readyz") as answer:
                print(answer.read().decode())
                return
        except OSError:
            time.sleep(0.5)
    raise SystemExit("the service was not ready")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "/var/tmp/sortitor-container"))
