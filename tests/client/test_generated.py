"""Clients that others make of the OpenAPI document: one in Python, one in TypeScript, each driven
through a lot.
"""

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from tests.worlds import World

from sortitor.core.vocabulary import Role

DOCUMENT = Path("console/openapi.json")
MODULES = Path("console/node_modules").resolve()
LOT = "serial,platform\nKM-1,android\nKM-2,android\n"

PYTHON = """
import os
from io import BytesIO
from made import AuthenticatedClient
from made.api.devices import list_devices
from made.api.lots import apply_lot, check_lot, preview_apply
from made.models import Apply, DevicePage, Lot, Preview, Problem
from made.types import File

client = AuthenticatedClient(os.environ["SORTITOR_URL"], os.environ["SORTITOR_TOKEN"])
lot = check_lot.sync(client=client, body=File(BytesIO(os.environ["LOT"].encode())), name="made")
assert isinstance(lot, Lot), lot
preview = preview_apply.sync(lot.id, client=client)
assert isinstance(preview, Preview), preview
moved = apply_lot.sync(lot.id, client=client, body=Apply(digest="of another"))
assert isinstance(moved, Problem), moved
assert moved.status == 409, moved
done = apply_lot.sync(lot.id, client=client, body=Apply(digest=preview.digest, reason="made"))
assert isinstance(done, Lot), done
page = list_devices.sync(client=client, limit=1)
assert isinstance(page, DevicePage), page
assert page.next_, page
print(done.status, len(page.items))
"""

TYPESCRIPT = """
import createClient from 'openapi-fetch'
import type { paths, components } from './schema'

const env = process.env as Record<string, string>
const client = createClient<paths>({
  baseUrl: env.SORTITOR_URL,
  headers: { Authorization: `Bearer ${env.SORTITOR_TOKEN}` },
})
type Lot = components['schemas']['Lot']

async function main(): Promise<void> {
  const taken = await client.POST('/api/v1/lots', {
    params: { query: { name: 'made' } },
    headers: { 'Content-Type': 'application/octet-stream' },
    body: env.LOT as string,
    bodySerializer: (body) => body as string,
  })
  if (!taken.data || !('id' in taken.data)) throw new Error(JSON.stringify(taken.error))
  const lot: Lot = taken.data
  const path = { lot_id: lot.id }
  const looked = await client.POST('/api/v1/lots/{lot_id}/preview', { params: { path } })
  if (!looked.data) throw new Error(looked.error.detail)
  const body = { digest: looked.data.digest, reason: 'made' }
  const done = await client.POST('/api/v1/lots/{lot_id}/apply', { params: { path }, body })
  if (!done.data || !('status' in done.data)) throw new Error(JSON.stringify(done.error))
  const gone = await client.GET('/api/v1/devices/{device_id}', {
    params: { path: { device_id: 99 } },
  })
  console.log(done.data.status, gone.error?.code)
}
void main()
"""


def environment(world: World) -> dict[str, str]:
    token = world.tokens[Role.COORDINATOR]
    return {**os.environ, "SORTITOR_URL": world.url, "SORTITOR_TOKEN": token, "LOT": LOT}


def test_one_in_python(world: World, tmp_path: Path) -> None:
    tools = Path(sys.executable).parent
    made = subprocess.run(
        [
            tools / "openapi-python-client",
            "generate",
            "--meta",
            "none",
            "--path",
            str(DOCUMENT.resolve()),
            "--output-path",
            str(tmp_path / "made"),
        ],
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "PATH": f"{tools}:{os.environ['PATH']}"},
    )
    told = made.stdout + made.stderr
    assert made.returncode == 0, told
    # What it cannot do is a form of file; every model and every operation is there.
    assert set(re.findall(r"^Unsupported (\w+)", told, re.M)) <= {"content"}
    schemas = set(json.loads(DOCUMENT.read_text())["components"]["schemas"])
    models = {
        re.sub(r"[^a-z0-9]", "", path.stem) for path in (tmp_path / "made/models").glob("*.py")
    }
    enums_and_objects = {name for name in schemas if name.lower() not in models}
    assert enums_and_objects <= {"ItemPayload"}, enums_and_objects
    (tmp_path / "drive.py").write_text(PYTHON)
    driven = subprocess.run(
        [sys.executable, "-P", tmp_path / "drive.py"],
        capture_output=True,
        text=True,
        check=False,
        env={**environment(world), "PYTHONPATH": str(tmp_path)},
    )
    assert driven.stdout == "applied 1\n", driven.stderr


def test_one_in_typescript(world: World, tmp_path: Path) -> None:
    node = shutil.which("node")
    if node is None:
        pytest.fail("there is no Node: make installs it")
    (tmp_path / "node_modules").symlink_to(MODULES)
    (tmp_path / "drive.ts").write_text(TYPESCRIPT)
    bins = MODULES / ".bin"
    subprocess.run(
        [bins / "openapi-typescript", DOCUMENT.resolve(), "-o", tmp_path / "schema.ts"],
        check=True,
        capture_output=True,
    )
    typed = subprocess.run(
        [
            bins / "tsc",
            "--strict",
            "--skipLibCheck",
            "--module",
            "commonjs",
            "--target",
            "es2022",
            "--esModuleInterop",
            "--types",
            "node",
            "drive.ts",
        ],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert typed.returncode == 0, typed.stdout
    driven = subprocess.run(
        [node, "drive.js"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
        env=environment(world),
    )
    assert driven.stdout == "applied not_found\n", driven.stderr
