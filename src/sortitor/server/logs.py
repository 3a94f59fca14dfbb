"""Structured logs to stderr: an event name and fields on every line, those of libraries too."""

from __future__ import annotations

import logging
import sys

import structlog
from structlog.typing import Processor

from sortitor.server.settings import Settings


def configure(settings: Settings) -> None:
    """Give every line of the process one form; libraries are heard from `warning` on."""
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
    told: list[Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
    ]
    structlog.configure(
        processors=[*told, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.stdlib.LoggerFactory(),
        cache_logger_on_first_use=False,
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=told,
            processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, *last],
        )
    )
    logging.captureWarnings(True)
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(logging.WARNING)
    logging.getLogger("sortitor").setLevel(level)
