"""Routes for those who run the service: alive, ready, metrics."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from prometheus_client.core import CollectorRegistry, GaugeMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from sortitor.api.http.access import Anonymous, context_of
from sortitor.core.vocabulary import Role
from sortitor.operations import health
from sortitor.operations.context import Actor, Context

router = APIRouter(include_in_schema=False)


@router.get("/healthz")
async def alive() -> dict[str, str]:
    """The process answers."""
    return {"status": "alive"}


@router.get("/readyz")
def ready(ctx: Anonymous) -> dict[str, str]:
    """The database answers too."""
    health.ping(ctx)
    return {"status": "ready"}


class _Business(Collector):
    """The business's numbers, read when they are asked for."""

    def __init__(self, ctx: Context) -> None:
        self._ctx = ctx

    def collect(self) -> list[GaugeMetricFamily]:
        """Devices by stage, refusals by reason, seats by pool."""
        numbers = health.numbers(self._ctx)
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
        return [stages, refusals, of_pools]


@router.get("/metrics")
def metrics(request: Request) -> Response:
    """OpenMetrics text."""
    registry = CollectorRegistry()
    registry.register(_Business(context_of(request, Actor("metrics", Role.VIEWER))))
    return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)
