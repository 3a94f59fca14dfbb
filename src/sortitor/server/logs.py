"""Structured logs to stderr: an event name and fields on every line."""

from __future__ import annotations

import logging
import sys

import structlog
from structlog.typing import Processor

from sortitor.server.settings import Settings


def configure(settings: Settings) -> None:
    """Set up structlog, and let the libraries' own logs through from `warning`."""
    level = logging.getLevelNamesMapping()[settings.log_level.upper()]
    last: list[Processor] = (
        [structlog.processors.format_exc_info, structlog.processors.JSONRenderer()]
        if settings.log_format == "json"
        # Plain: a traceback with local variables would write secrets into the log.
        else [
            structlog.dev.ConsoleRenderer(
                colors=sys.stderr.isatty(), exception_formatter=structlog.dev.plain_traceback
            )
        ]
    )
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            *last,
        ],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
        cache_logger_on_first_use=False,
    )
    logging.basicConfig(
        level=logging.WARNING,
        format="%(asctime)s [%(levelname)s] %(name)s: %(message)s",
        stream=sys.stderr,
    )
