"""Routes for those who run the service: alive, ready, metrics."""

from __future__ import annotations

import asyncio
import hmac
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response
from prometheus_client import Metric
from prometheus_client.core import CollectorRegistry, GaugeMetricFamily
from prometheus_client.exposition import choose_encoder
from prometheus_client.registry import Collector

from sortitor.api.http.access import admitted, anonymous, bearer, context_of, service_of
from sortitor.core.access import Permission
from sortitor.core.vocabulary import Role
from sortitor.operations import health
from sortitor.operations.context import Actor, Context

router = APIRouter(include_in_schema=False)
_prober = ThreadPoolExecutor(1, "probe")


async def _at_once(request: Request) -> Context:
    # A dependency that waits for no thread: they may all be at work.
    return anonymous(request)


@router.get("/healthz")
async def alive() -> dict[str, str]:
    """The process answers."""
    return {"status": "alive"}


_probing = asyncio.Lock()
_PROBE_SECONDS = 1.0
_last_good = [-_PROBE_SECONDS]


@router.get("/readyz")
async def ready(ctx: Annotated[Context, Depends(_at_once)]) -> dict[str, str]:
    """The database answers too. It is asked once a second at most, on a connection and a thread
    that nobody else uses.
    """
    async with _probing:
        if time.monotonic() - _last_good[0] >= _PROBE_SECONDS:
            await asyncio.get_running_loop().run_in_executor(_prober, health.probe, ctx)
            _last_good[0] = time.monotonic()
    return {"status": "ready"}


class _Business(Collector):
    """The business's numbers, read when they are asked for."""

    def __init__(self, numbers: health.Numbers) -> None:
        self._numbers = numbers

    def collect(self) -> list[Metric]:
        """Devices by stage, refusals by reason, seats by pool."""
        numbers = self._numbers
        stages = GaugeMetricFamily("sortitor_devices", "Devices by stage", labels=["stage"])
        for stage, count in numbers.stages.items():
            stages.add_metric([stage], count)
        refusals = GaugeMetricFamily(
            "sortitor_refusals", "Refused arrivals by reason", labels=["reason"]
        )
        for reason, count in numbers.refusals.items():
            refusals.add_metric([reason], count)
        of_pools = GaugeMetricFamily(
            "sortitor_seats", "Licence seats by pool", labels=["pool", "kind"]
        )
        for pool, needed, seats in numbers.pools:
            of_pools.add_metric([pool, "needed"], needed)
            of_pools.add_metric([pool, "held"], seats)
        counted = GaugeMetricFamily(
            "sortitor_counted_timestamp_seconds", "When these numbers were counted"
        )
        counted.add_metric([], numbers.counted_at)
        return [stages, refusals, of_pools, counted]


class _Work(Collector):
    """What waits, who works, and the database."""

    def __init__(self, work: health.Work) -> None:
        self._work = work

    def collect(self) -> list[Metric]:
        """Jobs and mails by state, the age of what waits, workers, connections, size."""
        found = self._work
        jobs = GaugeMetricFamily("sortitor_jobs", "Jobs by state", labels=["state"])
        for state, count in found.jobs.items():
            jobs.add_metric([state], count)
        mails = GaugeMetricFamily("sortitor_mails", "Mails by state", labels=["state"])
        for state, count in found.mails.items():
            mails.add_metric([state], count)
        single = {
            "sortitor_queue_age_seconds": ("Since when the oldest work waits", found.queue_age),
            "sortitor_workers": ("Workers that gave a sign of life lately", found.workers),
            "sortitor_database_size_bytes": ("How large the database is", found.database_bytes),
            "sortitor_database_connections": ("Connections to the database", found.connections),
            "sortitor_pool_connections_in_use": ("Of this process's, at work", found.pool_in_use),
            "sortitor_pool_connections_most": ("Of this process's, at most", found.pool_most),
        }
        gauges = [
            GaugeMetricFamily(name, words, value=value) for name, (words, value) in single.items()
        ]
        return [jobs, mails, *gauges]


@router.get("/metrics")
def metrics(request: Request) -> Response:
    """The numbers as OpenMetrics where that is accepted, else in the text form of Prometheus; for
    whoever shows the token of the metrics or an account's.
    """
    token, given = service_of(request).metrics_token, bearer(request) or ""
    if token is not None and hmac.compare_digest(token.encode(), given.encode()):
        ctx = context_of(request, Actor("metrics", Role.VIEWER))
        request.state.recognised = True
    else:
        ctx = context_of(request, admitted(request, Permission.LOOK))
    numbers = health.numbers(ctx)
    registry = CollectorRegistry()
    registry.register(_Business(numbers))
    registry.register(_Work(health.work(ctx)))
    registry.register(service_of(request).measures.registry)
    encode, media = choose_encoder(request.headers.get("accept", ""))
    return Response(encode(registry), headers={"Content-Type": media})
