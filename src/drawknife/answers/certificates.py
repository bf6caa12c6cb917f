"""Endpoints' certificates: PEM files (RFC 7468) read, and what is wrong with them told before a
client meets it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    load_pem_private_key,
)

from drawknife.core.model.items import Endpoint
from drawknife.messages import CertificateAnswer

#: Days before its end from which an expiring certificate wants attention.
WARN_DAYS = 30


#: Reads a file; OSError with the reason where it is not to be had.
Read = Callable[[str], bytes]
LARGEST = 2**20


def read_file(name: str) -> bytes:
    """The bytes of a regular file of bounded size, for whoever works on a model file of
    their own.
    """
    path = Path(name)
    if path.exists() and not path.is_file():
        raise OSError(0, "it is no regular file")
    with path.open("rb") as file:
        raw = file.read(LARGEST + 1)
    if len(raw) > LARGEST:
        raise OSError(0, "it is too large for a certificate")
    return raw


def look(endpoint: Endpoint, now: datetime, read: Read = read_file) -> CertificateAnswer | None:
    """What an endpoint's certificate says, and what is wrong with it; None if the endpoint names
    none.
    """
    if endpoint.certificate is None:
        return None
    empty = CertificateAnswer(
        endpoint=endpoint.name,
        file=endpoint.certificate,
        looked_at=now,
        problem=None,
        names=[],
        valid_from=None,
        valid_until=None,
        days_left=None,
        key_matches=None,
        warnings=[],
    )
    try:
        certificate = x509.load_pem_x509_certificate(read(endpoint.certificate))
    except OSError as error:
        return empty.model_copy(update={"problem": f"it cannot be read: {error.strerror}"})
    except ValueError:
        return empty.model_copy(
            update={"problem": f"{endpoint.certificate} holds no certificate in PEM"}
        )
    names = _names(certificate)
    until = certificate.not_valid_after_utc
    matches, warnings = _key(endpoint, certificate, read)
    days = (until - now).days
    if now < certificate.not_valid_before_utc:
        warnings.append(f"it is not valid before {certificate.not_valid_before_utc:%Y-%m-%d}")
    if until <= now:
        warnings.append(f"it expired on {until:%Y-%m-%d}")
    elif days < WARN_DAYS:
        warnings.append(f"it expires on {until:%Y-%m-%d}, in {days} days")
    for host in endpoint.host_names:
        if not any(covers(name, host) for name in names):
            warnings.append(f"it is not for {host}, only for {', '.join(names) or 'nothing'}")
    return empty.model_copy(
        update={
            "names": names,
            "valid_from": certificate.not_valid_before_utc,
            "valid_until": until,
            "days_left": days,
            "key_matches": matches,
            "warnings": warnings,
        }
    )


def not_looked_at(endpoint: Endpoint) -> CertificateAnswer:
    """The answer about a certificate that nobody has looked at yet: nothing is known of it."""
    return CertificateAnswer(
        endpoint=endpoint.name,
        file=endpoint.certificate or "",
        looked_at=None,
        problem="it has not been looked at yet",
        names=[],
        valid_from=None,
        valid_until=None,
        days_left=None,
        key_matches=None,
        warnings=[],
    )


def _names(certificate: x509.Certificate) -> list[str]:
    try:
        found = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        return []
    return [n.lower() for n in found.get_values_for_type(x509.DNSName)]


def covers(name: str, host: str) -> bool:
    """Does a name of a certificate stand for a host (RFC 9525: a wildcard is the whole first
    label)?
    """
    if name.startswith("*."):
        return host.partition(".")[2] == name[2:]
    return name == host


def _key(
    endpoint: Endpoint, certificate: x509.Certificate, read: Read
) -> tuple[bool | None, list[str]]:
    if endpoint.certificate_key is None:
        return None, []
    try:
        key = load_pem_private_key(read(endpoint.certificate_key), None)
    except OSError as error:
        return None, [f"its key {endpoint.certificate_key} cannot be read: {error.strerror}"]
    except (ValueError, TypeError):
        return None, [f"{endpoint.certificate_key} holds no key in PEM without a password"]
    form = (Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    if key.public_key().public_bytes(*form) == certificate.public_key().public_bytes(*form):
        return True, []
    return False, [f"{endpoint.certificate_key} is the key of another certificate"]
