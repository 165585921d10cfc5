"""Structured logs: one JSON object a line on standard error, with the request's id where there is one."""

import logging
import sys

import structlog


def configure(level: str) -> None:
    structlog.configure(
        processors=[structlog.contextvars.merge_contextvars, structlog.processors.add_log_level,
                    structlog.processors.TimeStamper(fmt="iso", utc=True), structlog.processors.format_exc_info,
                    structlog.processors.JSONRenderer(ensure_ascii=False)],
        wrapper_class=structlog.make_filtering_bound_logger(getattr(logging, level)),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr), cache_logger_on_first_use=True)
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr)


log: structlog.stdlib.BoundLogger = structlog.get_logger()
