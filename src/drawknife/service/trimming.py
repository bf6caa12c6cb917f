"""Removal of data past its retention period, by one of the services on a database."""

from __future__ import annotations

import threading

import structlog

from drawknife.records.database import NoRoom, Unavailable, alone
from drawknife.records.retention import remove_expired

from .current import Current

log = structlog.get_logger()
#: Seconds between two removals.
INTERVAL = 600.0
_LOCK = 0x7472696D
WHO = "drawknife serve"


def start_trimming(current: Current) -> None:
    """Remove expired data now and then, in a thread that lives as long as the process."""
    threading.Thread(
        target=_run, args=(current, threading.Event()), name="trimming", daemon=True
    ).start()


def _run(current: Current, never: threading.Event) -> None:
    while True:
        try:
            trim(current)
        except Unavailable:
            pass  # the thread that listens for revisions logs this
        except NoRoom as error:
            log.error("expired data was not removed", error=str(error))
        except Exception:
            log.exception("expired data was not removed")
        if never.wait(INTERVAL):
            return


def trim(current: Current) -> None:
    """Remove expired data, unless another service is doing so."""
    with alone(current.database, _LOCK, "all") as is_mine:
        if not is_mine:
            return
        lockouts = current.snapshot().model.lockouts
        for removal in remove_expired(current.database, current.retention, WHO, lockouts):
            log.info("removed expired data", what=removal.text)
