"""Endpoints' certificates, looked at in the background: whoever asks is told what was seen last,
and when.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from datetime import UTC, datetime

import structlog

from drawknife.answers import certificates
from drawknife.core.model.items import Endpoint
from drawknife.messages import CertificateAnswer
from drawknife.records.database import Unavailable

from .files import NotReadable

log = structlog.get_logger()
#: Seconds between two looks, where the endpoints stay as they are.
EVERY = 60.0
LOOK_FOR_CHANGES = 0.25
#: Seconds for the first look at one.
FIRST_LOOK = 2.0


class Certificates:
    """What the certificates of the endpoints said when they were last looked at.

    `endpoints` gives those of the newest model, `read` the bytes of a file or :class:`NotReadable`.
    """

    def __init__(
        self, endpoints: Callable[[], Sequence[Endpoint]], read: Callable[[str], bytes]
    ) -> None:
        self._endpoints = endpoints
        self._read_file = read
        #: By the files of the certificate and its key, and the host names that it is to be for.
        self._seen: dict[object, CertificateAnswer] = {}
        self._stop = threading.Event()
        self._looked = threading.Condition()

    def start(self) -> None:
        """Begin to look."""
        threading.Thread(target=self._run, name="certificates", daemon=True).start()

    def stop(self) -> None:
        self._stop.set()

    def seen(self, endpoint: Endpoint) -> CertificateAnswer | None:
        """What was seen last of an endpoint's certificate; None if that was not looked at yet."""
        return self._seen.get(_looked_at(endpoint))

    def wait_for(self, endpoint: Endpoint) -> None:
        """Until a certificate that has just come was looked at, or a moment: a file may keep who
        reads it waiting for ever.
        """
        with self._looked:
            self._looked.wait_for(lambda: self.seen(endpoint) is not None, FIRST_LOOK)

    def _run(self) -> None:
        looked_at: object = None
        waited = EVERY
        while not self._stop.wait(LOOK_FOR_CHANGES):
            waited += LOOK_FOR_CHANGES
            try:
                endpoints = self._endpoints()
                if waited < EVERY and endpoints is looked_at:
                    continue
                now = datetime.now(UTC)
                looks = ((_looked_at(e), certificates.look(e, now, self._read)) for e in endpoints)
                seen = {key: answer for key, answer in looks if answer is not None}
                with self._looked:
                    self._seen = seen
                    self._looked.notify_all()
                looked_at, waited = endpoints, 0.0
            except Unavailable:
                continue
            except Exception:
                log.exception("looking at certificates failed unexpectedly")

    def _read(self, name: str) -> bytes:
        try:
            return self._read_file(name)
        except NotReadable as error:
            raise OSError(0, str(error)) from None


def _looked_at(e: Endpoint) -> object:
    return e.name, e.certificate, e.certificate_key, e.host_names
