"""The certificate that the service shows under TLS, read again when its files change."""

from __future__ import annotations

import ssl
from pathlib import Path

import structlog

log = structlog.get_logger()


class Certificate:
    """A certificate and its key. Files that have changed are read again for new connections."""

    def __init__(self, cert: Path, key: Path) -> None:
        """OSError or ssl.SSLError where the files are not there, or are no certificate
        and its key.
        """
        self._files = (cert, key)
        self._seen = self._looked()
        self.context = self._read()
        #: What was the matter last, until they can be used.
        self._wrong = ""

    def _looked(self) -> tuple[int, ...]:
        # Of what is written in two steps at once, the time alone does not tell the first from the
        # second.
        seen = [file.stat() for file in self._files]
        return tuple(n for s in seen for n in (s.st_mtime_ns, s.st_size, s.st_ino))

    def _read(self) -> ssl.SSLContext:
        # In a context of its own: one that has taken the new certificate, and not its key, could
        # show neither.
        found = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        found.load_cert_chain(*self._files)
        return found

    def look_again(self) -> None:
        """Take what the files hold now.

        While they cannot be used, what was there is shown, and they are tried again.
        """
        try:
            now = self._looked()
            if now == self._seen and not self._wrong:
                return
            found = self._read()
            if self._looked() != now:
                return  # they are just being changed
            self.context, self._seen, self._wrong = found, now, ""
            log.warning("the certificate was turned over", cert=str(self._files[0]))
        except OSError as error:
            if str(error) != self._wrong:
                log.error(
                    "the new certificate cannot be used; the one before is shown on",
                    error=str(error),
                )
            self._wrong = str(error)
