"""Logs: one JSON object a line on standard error, with request and operation ids where there are any."""

from __future__ import annotations

import logging
import sys

import structlog


def configure(level: str) -> None:
    """Set up logging for a process of the service."""
    number = getattr(logging, level.upper(), logging.INFO)
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(number),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )
    logging.basicConfig(
        level=logging.WARNING,
        stream=sys.stderr,
        format='{"level":"%(levelname)s","logger":"%(name)s","event":"%(message)s"}',
    )
