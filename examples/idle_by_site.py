"""Weekly: devices that gave no sign of life for so many days, by site, as CSV.

SORTITOR_URL=https://devices.example.org SORTITOR_TOKEN=… python idle_by_site.py 60 > idle.csv
"""

from __future__ import annotations

import csv
import os
import sys
from collections import Counter

from sortitor.client import Sortitor


def main(days: int) -> None:
    """Write site, how many are idle, and the longest of them."""
    idle: Counter[str] = Counter()
    longest: dict[str, int] = {}
    with Sortitor(os.environ["SORTITOR_URL"], os.environ["SORTITOR_TOKEN"]) as s:
        for device in s.devices.list(filter=f"idleDays ge {days}"):
            site = device.site or "(no site)"
            idle[site] += 1
            longest[site] = max(longest.get(site, 0), device.idle_days)
    writer = csv.writer(sys.stdout)
    writer.writerow(["site", "idle devices", "longest idle days"])
    writer.writerows((site, count, longest[site]) for site, count in sorted(idle.items()))


if __name__ == "__main__":
    main(int(sys.argv[1]))
