"""Endpoints' certificates, looked at in the background: whoever asks is told what was seen last, and when."""

from __future__ import annotations

import threading
from datetime import UTC, datetime
from typing import TYPE_CHECKING

import structlog

from drawknife.answers import certificates
from drawknife.messages import CertificateAnswer
from drawknife.records.database import Unavailable

from .files import NotReadable

if TYPE_CHECKING:
    from .current import Current

log = structlog.get_logger()
#: Seconds between two looks, where the endpoints stay as they are.
EVERY = 60.0
LOOK_FOR_CHANGES = 1.0


class Certificates:
    """What the certificates of the endpoints said when they were last looked at."""

    def __init__(self, current: Current) -> None:
        self._current = current
        self._seen: dict[str, CertificateAnswer] = {}
        self._stop = threading.Event()

    def start(self) -> None:
        """Begin to look."""
        threading.Thread(target=self._run, name="certificates", daemon=True).start()

    def stop(self) -> None:
        self._stop.set()

    def seen(self, endpoint: str) -> CertificateAnswer | None:
        """What was seen last of an endpoint's certificate; None if that was not looked at yet."""
        return self._seen.get(endpoint)

    def _run(self) -> None:
        looked_at: object = None
        waited = EVERY
        while not self._stop.wait(LOOK_FOR_CHANGES):
            waited += LOOK_FOR_CHANGES
            try:
                endpoints = self._current.snapshot().model.endpoints
                if waited < EVERY and endpoints is looked_at:
                    continue
                now = datetime.now(UTC)
                found = {e.name: certificates.look(e, now, self._read) for e in endpoints if e.certificate is not None}
                self._seen = {name: answer for name, answer in found.items() if answer is not None}
                looked_at, waited = endpoints, 0.0
            except Unavailable:
                continue
            except Exception:
                log.exception("looking at certificates failed unexpectedly")

    def _read(self, name: str) -> bytes:
        try:
            return self._current.files.read(name)
        except NotReadable as error:
            raise OSError(0, str(error)) from None
