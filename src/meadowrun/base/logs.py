"""Structured logs: one JSON object a line on standard error, with the request's id where there is
one.

Nobody's address and nothing that somebody wrote gets into them, also not by way of an error's own
words.
"""

import logging
import re
import sys
from collections.abc import MutableMapping
from typing import Any

import structlog

_ADDRESS = re.compile(r"[\w.+%'’-]+@[\w-]+(?:\.[\w-]+)+")
#: What PostgreSQL says of the row or the value that it refuses.
_VALUES = re.compile(r"^(?:DETAIL|CONTEXT|LINE \d+):.*$|(?<=: )\".*\"$", re.MULTILINE)


def masked(_logger: Any, _method: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """An event without addresses, and without what the database quotes of somebody's values."""
    return {key: _bare(value) for key, value in event.items()}


def _bare(value: Any) -> Any:
    if isinstance(value, str):
        return _ADDRESS.sub("(address)", _VALUES.sub("(value)", value))
    if isinstance(value, dict):
        return {key: _bare(one) for key, one in value.items()}
    return [_bare(one) for one in value] if isinstance(value, list | tuple) else value


def configure(level: str) -> None:
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            masked,
            structlog.processors.JSONRenderer(ensure_ascii=False),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(getattr(logging, level)),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
        cache_logger_on_first_use=True,
    )
    logging.basicConfig(level=logging.WARNING, stream=sys.stderr)


log: structlog.stdlib.BoundLogger = structlog.get_logger()
