"""Tidings of findings and broken promises, and the two ways that they go: a webhook, and mail."""

from __future__ import annotations

import hashlib
import hmac
import json
import smtplib
import socket
import ssl
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from pathlib import Path
from typing import NamedTuple, Protocol

import httpx

from drawknife.core.words.errors import OutOfReach
from drawknife.core.words.plain import escaped
from drawknife.core.words.sizes import number_of
from drawknife.records.telling import ToldFinding

#: Seconds for the other side to answer.
PATIENCE = 15
#: Bytes of an answer that are read.
MOST_ANSWERED = 64 * 1024


class NewRevision(NamedTuple):
    """A revision since what was told last."""

    revision: int
    at: datetime
    who: str
    what: str


class Tidings(NamedTuple):
    """What is new and what is mended, as of a revision, and what was changed since it was told
    last.
    """

    revision: int
    at: datetime
    new: Sequence[ToldFinding]
    mended: Sequence[ToldFinding]
    changes: Sequence[NewRevision]
    left_out: int = 0


class NotTaken(Exception):
    """The other side was not reached, or did not take it."""


class MailRefused(OutOfReach):
    """A letter to somebody was not taken by the mail server."""


class WayOfTelling(Protocol):
    """A way of telling."""

    @property
    def name(self) -> str:
        """What it is called, in the log and where it is noted what was told."""
        ...

    def tell(self, tidings: Tidings) -> None:
        """Tell; :class:`NotTaken` where it has to be tried again."""
        ...

    def why_not_reached(self) -> str:
        """Connect to the other side and send nothing; why that fails, empty if it succeeds."""
        ...


class Webhook(NamedTuple):
    """A POST of JSON to an address, signed where there is a secret.

    `Drawknife-Signature` is HMAC-SHA256 (RFC 2104), in hexadecimal, of the header `Drawknife-Time`,
    a line feed, and the body. Whoever takes it checks it, and that the time is not long ago. Any
    2xx says that it was taken.
    """

    url: str
    secret: bytes | None = None
    name: str = "webhook"

    def tell(self, tidings: Tidings) -> None:
        body = json.dumps(_data(tidings), ensure_ascii=False).encode()
        now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        headers = {"Content-Type": "application/json", "Drawknife-Time": now}
        if self.secret is not None:
            headers["Drawknife-Signature"] = signature(self.secret, now, body)
        try:
            with httpx.stream(
                "POST", self.url, content=body, headers=headers, timeout=PATIENCE
            ) as answer:
                _read_some(answer)
        except httpx.HTTPError as error:
            raise NotTaken(f"{_host(self.url)} cannot be reached: {error}") from None
        if not answer.is_success:
            raise NotTaken(f"{_host(self.url)} answers {answer.status_code}")

    def why_not_reached(self) -> str:
        url = httpx.URL(self.url)
        is_over_tls = url.scheme == "https"
        try:
            with socket.create_connection(
                (url.host, url.port or (443 if is_over_tls else 80)), PATIENCE
            ) as reached:
                if is_over_tls:
                    ssl.create_default_context().wrap_socket(
                        reached, server_hostname=url.host
                    ).close()
        except OSError as error:
            return f"{url.host} cannot be reached: {error}"
        return ""


def _read_some(answer: httpx.Response) -> None:
    """Read what is answered, up to so much: the status is all that counts, and a server may send
    without an end.
    """
    taken, until = 0, time.monotonic() + PATIENCE
    for part in answer.iter_raw():
        taken += len(part)
        if taken > MOST_ANSWERED or time.monotonic() > until:
            return


def _host(url: str) -> str:
    """What of an address may stand in a log: its path may hold a secret."""
    return httpx.URL(url).host


def signature(secret: bytes, moment: str, body: bytes) -> str:
    """The signature of a webhook's body, sent at a moment."""
    return hmac.new(secret, moment.encode() + b"\n" + body, hashlib.sha256).hexdigest()


def _data(tidings: Tidings) -> dict[str, object]:
    return {
        "revision": tidings.revision,
        "at": tidings.at.isoformat(),
        "new": [t._asdict() for t in tidings.new],
        "mended": [t._asdict() for t in tidings.mended],
        "changes": [{**c._asdict(), "at": c.at.isoformat()} for c in tidings.changes],
        "changes_left_out": tidings.left_out,
    }


class Mail(NamedTuple):
    """A letter by SMTP (RFC 5321), always under STARTTLS (RFC 3207) with a certificate that is
    known.
    """

    server: str
    sender: str
    to: tuple[str, ...]
    user: str | None = None
    password: str | None = None
    ca_file: Path | None = None
    #: Where people reach the console.
    console: str | None = None
    name: str = "mail"

    def tell(self, tidings: Tidings) -> None:
        with self._signed_in() as smtp:
            smtp.send_message(self._letter(tidings))

    def send(self, to: str, about: str, text: str) -> None:
        """Send a letter to somebody; :class:`NotTaken`."""
        letter = self._begun(to, about, datetime.now(UTC))
        letter.set_content(text)
        with self._signed_in() as smtp:
            smtp.send_message(letter)

    def why_not_reached(self) -> str:
        try:
            with self._signed_in():
                return ""
        except NotTaken as error:
            return str(error)

    @contextmanager
    def _signed_in(self) -> Iterator[smtplib.SMTP]:
        """The mail server, signed in to; :class:`NotTaken` where that fails, or what is
        sent there.
        """
        host, _, port = self.server.rpartition(":")
        trusted = ssl.create_default_context(cafile=self.ca_file and str(self.ca_file))
        try:
            with smtplib.SMTP(host.strip("[]"), int(port), timeout=PATIENCE) as smtp:
                smtp.starttls(context=trusted)
                if self.user is not None:
                    smtp.login(self.user, self.password or "")
                yield smtp
        except (OSError, smtplib.SMTPException) as error:
            raise NotTaken(f"{self.server}: {error}") from None

    def _letter(self, tidings: Tidings) -> EmailMessage:
        letter = self._begun(", ".join(self.to), subject(tidings), tidings.at)
        letter.set_content(text(tidings) + (f"{self.console}\n" if self.console else ""))
        return letter

    def _begun(self, to: str, about: str, at: datetime) -> EmailMessage:
        """A letter without its text."""
        letter = EmailMessage()
        letter["From"], letter["To"], letter["Subject"] = self.sender, to, about
        letter["Date"], letter["Message-ID"] = (
            format_datetime(at),
            make_msgid(domain="drawknife.invalid"),
        )
        letter["Auto-Submitted"] = "auto-generated"  # RFC 3834
        return letter


def subject(tidings: Tidings) -> str:
    """What it is about, in a few words."""
    parts = [
        f"{number_of(len(some), word)}" for some, word in ((tidings.new, "new finding"),) if some
    ]
    if tidings.mended:
        parts.append(f"{len(tidings.mended)} mended")
    return "Drawknife: " + ", ".join(parts)


def text(tidings: Tidings) -> str:
    """What is said to people, with its control characters visible."""
    lines = []
    for heading, some in (("New", tidings.new), ("Mended, or gone", tidings.mended)):
        if some:
            lines += [heading, *(f"  {t.kind}: {t.text}" for t in some), ""]
    if tidings.changes:
        lines.append("What was changed since the last letter")
        lines += [
            f"  {c.revision}  {c.at:%Y-%m-%d %H:%M} UTC  {c.who}: {c.what}" for c in tidings.changes
        ]
        if tidings.left_out:
            lines.append(f"  and {tidings.left_out} before these; `drawknife journal` has them")
        lines.append("")
    lines.append(f"As of revision {tidings.revision}.")
    return escaped("\n".join(lines)) + "\n"
