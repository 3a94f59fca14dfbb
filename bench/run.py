"""The figures, each as a ratio against a floor that is measured in the same run.

    make bench                       everything
    python -m bench.run lots agents   only these chapters
    python -m bench.run beyond        ten million devices: an hour and more, 30 GB of disk

Nothing here fails: it measures and prints a table (also as JSON to bench/results.json).
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from bench import (
    agents,
    cohorts,
    commands,
    door,
    everything,
    files,
    gate,
    kits,
    lots,
    retirement,
    sources,
    trust,
)
from bench.figures import Figure, table
from sortitor.server.postgres import Cluster

CHAPTERS: dict[str, Callable[[Cluster], list[Figure]]] = {
    "lots": lots.measure,
    "large-lots": lots.measure_large,
    "cohorts": cohorts.measure,
    "agents": agents.measure,
    "gate": gate.measure,
    "door": door.measure,
    "kits": kits.measure,
    "files": files.measure,
    "commands": commands.measure,
    "everything": everything.measure,
    "trust": trust.measure,
    "sources": sources.measure,
    "retirement": retirement.measure,
}
#: Only when it is asked for.
ON_REQUEST: dict[str, Callable[[Cluster], list[Figure]]] = {"beyond": everything.measure_beyond}


def main() -> None:
    """Measure the chapters asked for on a cluster of their own, with durable settings."""
    wanted = sys.argv[1:] or list(CHAPTERS)
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "bench")
        cluster.start()
        try:
            chapters = [(CHAPTERS | ON_REQUEST)[name] for name in wanted]
            figures = [figure for measure in chapters for figure in measure(cluster)]
        finally:
            cluster.stop()
    print(table(figures))
    Path(__file__).with_name("results.json").write_text(
        json.dumps([figure.as_json() for figure in figures], indent=1) + "\n"
    )


if __name__ == "__main__":
    main()
