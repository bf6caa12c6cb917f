"""Public keys in one line, as OpenSSH writes them: a type, the key in base64, a comment.

The key itself is a sequence of strings and numbers with lengths (RFC 4251, section 5), the first of
which repeats the type (RFC 4253, section 6.6; RFC 5656; RFC 8709).
"""

import base64
import binascii
import hashlib
from typing import NamedTuple

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.serialization import load_ssh_public_key

from drawknife.core.words.names import BadValue

KINDS = (
    "ssh-ed25519",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "ssh-rsa",
)
#: Bits. Shorter RSA keys can be broken.
SHORTEST_RSA = 2048
_EXPECTED = "a public key in one line, such as `ssh-ed25519 AAAAC3Nza… boat@tidewrack.example`"


class PublicKey(NamedTuple):
    kind: str
    body: str
    comment: str
    fingerprint: str


def read_public_key(line: str) -> PublicKey:
    """Read one line; :class:`BadValue` if it is no public key that is safe to accept."""
    if "PRIVATE KEY" in line:
        raise BadValue("this is a private key; keep it where it is", _EXPECTED)
    words = line.strip().split(None, 2)
    if len(words) < 2 or "\n" in line.strip():
        raise BadValue("this is no public key in one line", _EXPECTED)
    kind, body = words[:2]
    if kind not in KINDS:
        raise BadValue(f"keys of type {kind[:40]!r} are not taken", "one of " + ", ".join(KINDS))
    try:
        raw = base64.b64decode(body, validate=True)
        key = load_ssh_public_key(f"{kind} {body}".encode())
    except (ValueError, binascii.Error, UnsupportedAlgorithm):
        raise BadValue("the key is damaged: it cannot be read", _EXPECTED) from None
    if isinstance(key, RSAPublicKey) and key.key_size < SHORTEST_RSA:
        raise BadValue(
            f"an RSA key of {key.key_size} bits is too short",
            f"{SHORTEST_RSA} bits or more, or ssh-ed25519",
        )
    digest = base64.b64encode(hashlib.sha256(raw).digest()).decode().rstrip("=")
    comment = "".join(c for c in (words[2] if len(words) > 2 else "") if c.isprintable())[:200]
    return PublicKey(kind, body, comment, f"SHA256:{digest}")
