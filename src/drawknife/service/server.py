"""Serving: the application in gunicorn, one process with threads.

One process keeps the prepared model once, and what it writes it sees at once. For more throughput
start several services on one database.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any

import structlog
from gunicorn.app.base import BaseApplication

from drawknife.records.database import Database

from .app import create_app


class Server(BaseApplication):  # type: ignore[misc]
    """Gunicorn with the application; returns from :meth:`run` when it is told to stop."""

    def __init__(
        self,
        address: str,
        host: str,
        port: int,
        console: Path | None,
        key_file: Path | None,
        threads: int,
        verbose: bool,
        when_ready: Callable[[], None],
    ) -> None:
        self.address, self.host, self.port = address, host, port
        self.key_file = key_file
        self.console, self.threads, self.verbose = console, threads, verbose
        self.when_ready = when_ready
        super().__init__()

    def load_config(self) -> None:
        host = f"[{self.host}]" if ":" in self.host else self.host
        for key, value in {
            "bind": f"{host}:{self.port}",
            "workers": 1,
            "worker_class": "gthread",
            "threads": self.threads,
            "timeout": 600,
            "graceful_timeout": 5,
            "keepalive": 30,
            "loglevel": "warning",
            "when_ready": lambda _: self.when_ready(),
            "control_socket_disable": True,
        }.items():
            if key in self.cfg.settings:
                self.cfg.set(key, value)

    def load(self) -> Any:
        set_up_logging(self.verbose)
        return create_app(Database(self.address, size=self.threads + 2), self.console, self.key_file)


def set_up_logging(verbose: bool) -> None:
    """Log lines as JSON on standard error; requests only if `verbose`. Tokens never come into them."""
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(ensure_ascii=False),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO if verbose else logging.WARNING),
        logger_factory=structlog.PrintLoggerFactory(file=__import__("sys").stderr),
        cache_logger_on_first_use=True,
    )
