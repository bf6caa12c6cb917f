"""What the stand-in needs to be spoken to safely: a certificate and a host key, made
once and kept.
"""

from __future__ import annotations

import hashlib
import ssl
from base64 import b64decode, b64encode
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv6Address, ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_ssh_private_key,
)
from cryptography.x509.oid import NameOID


def certificate_in(folder: Path, host: str = "127.0.0.1") -> Path:
    """Make a PEM file with a key and a self-signed certificate for localhost and an address, if
    there is none yet.
    """
    path = folder / "rehearsal.pem"
    addresses = dict.fromkeys(ip_address(x) for x in ("127.0.0.1", "::1", host))
    if not path.exists() or not addresses.keys() <= _addresses_of(path):
        key = ec.generate_private_key(ec.SECP256R1())
        name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "rehearsal.tidewrack.example")])
        now = datetime.now(UTC)
        names = x509.SubjectAlternativeName(
            [x509.DNSName("localhost"), *map(x509.IPAddress, addresses)]
        )
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


def _addresses_of(path: Path) -> set[IPv4Address | IPv6Address]:
    """The addresses that a certificate names; none where it names none."""
    certificate = x509.load_pem_x509_certificate(path.read_bytes())
    try:
        names = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return set()
    return {
        x
        for x in names.get_values_for_type(x509.IPAddress)
        if isinstance(x, IPv4Address | IPv6Address)
    }


def fingerprints(folder: Path) -> tuple[str, str]:
    """The SHA-256 fingerprints of the host key, as OpenSSH writes it, and of the certificate."""
    key = load_ssh_private_key(host_key_in(folder).read_bytes(), None)
    public = key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).split()[1]
    digest = b64encode(hashlib.sha256(b64decode(public)).digest()).decode().rstrip("=")
    certificate = x509.load_pem_x509_certificate((folder / "rehearsal.pem").read_bytes())
    return f"SHA256:{digest}", certificate.fingerprint(hashes.SHA256()).hex(":").upper()


def tls_context(folder: Path, host: str = "127.0.0.1", tickets: int = 2) -> ssl.SSLContext:
    """Make a context for control connections, or without `tickets` for data connections.

    A client that sends a file and closes does not read session tickets (RFC 8446, 4.6.1), and a
    connection that is closed with something unread is reset: the end of the file is lost. So none
    are sent there.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.num_tickets = tickets
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    # A connection that is cut off is not to look as if it had been ended.
    context.options &= ~getattr(ssl, "OP_IGNORE_UNEXPECTED_EOF", 0)
    context.load_cert_chain(certificate_in(folder, host))
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
