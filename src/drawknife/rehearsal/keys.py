"""What the stand-in needs to be spoken to safely: a certificate and a host key, made once and kept."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID


def certificate_in(folder: Path) -> Path:
    """A PEM file with a key and a self-signed certificate for localhost."""
    path = folder / "rehearsal.pem"
    if not path.exists():
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "rehearsal.tidewrack.example")])
        now = datetime.now(UTC)
        names = x509.SubjectAlternativeName([x509.DNSName("localhost")])
        made = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(name)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + timedelta(days=3650))
            .add_extension(names, critical=False)
            .sign(key, hashes.SHA256())
        )
        private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        _write(path, private + made.public_bytes(Encoding.PEM))
    return path


def tls_context(folder: Path) -> ssl.SSLContext:
    """One context for control and data connections."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    # A connection that is cut off is not to look as if it had been ended.
    context.options &= ~getattr(ssl, "OP_IGNORE_UNEXPECTED_EOF", 0)
    context.load_cert_chain(certificate_in(folder))
    return context


def host_key_in(folder: Path) -> Path:
    """A PEM file with a private key for SSH."""
    path = folder / "rehearsal-host-key"
    if not path.exists():
        key = ed25519.Ed25519PrivateKey.generate()
        _write(path, key.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption()))
    return path


def _write(path: Path, raw: bytes) -> None:
    path.touch(mode=0o600)
    path.write_bytes(raw)
