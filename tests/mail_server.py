"""A mail server on loopback that keeps what it is handed, under STARTTLS only and from one user."""

import email
import ssl
import subprocess
from contextlib import contextmanager
from email import policy

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
from tools.cluster import free_port

USER, PASSWORD = "drawknife", "a word"


class MailServer:
    """`address`, HOST:PORT; `certificate`, the file that its certificate comes from; `came`, the
    envelopes.
    """

    def __init__(self, address, certificate):
        self.address, self.certificate, self.came = address, certificate, []

    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("refused@"):
            return "550 nobody of that name"
        envelope.rcpt_tos.append(address)
        return "250 known"

    async def handle_DATA(self, server, session, envelope):
        self.came.append(envelope)
        return "250 taken"

    @property
    def letters(self):
        """What came, as letters."""
        return [
            email.message_from_bytes(envelope.content, policy=policy.default)
            for envelope in self.came
        ]

    def to(self, address):
        """The letters to somebody."""
        return [letter for letter in self.letters if letter["To"] == address]


@contextmanager
def mail_server(folder):
    """A server that runs while the block does."""
    cert, key = folder / "mail-cert.pem", folder / "mail-key.pem"
    subprocess.run(
        [
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "9",
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=IP:127.0.0.1",
            "-keyout",
            key,
            "-out",
            cert,
        ],
        check=True,
        capture_output=True,
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    port = free_port()
    made = MailServer(f"127.0.0.1:{port}", cert)

    def known(server, session, envelope, mechanism, data):
        return AuthResult(
            success=session.ssl is not None
            and (data.login, data.password) == (USER.encode(), PASSWORD.encode())
        )

    controller = Controller(
        made,
        hostname="127.0.0.1",
        port=port,
        tls_context=context,
        require_starttls=True,
        authenticator=known,
        auth_required=True,
    )
    controller.start()
    try:
        yield made
    finally:
        controller.stop()
