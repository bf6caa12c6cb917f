"""Public keys: what is taken, what is not, and why."""

import base64
import hashlib

import pytest
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
)

from drawknife.core.words.errors import BadValue
from drawknife.formats.public_keys import KINDS, read_public_key


def line(key, comment="boat@tidewrack.example"):
    return (
        key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode()
        + f" {comment}"
    )


ED = ed25519.Ed25519PrivateKey.generate()
MADE = [
    ED, ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP384R1()),
    ec.generate_private_key(ec.SECP521R1()), rsa.generate_private_key(65537, 2048),
]  # fmt: skip


@pytest.mark.parametrize(("key", "kind"), zip(MADE, KINDS, strict=True), ids=KINDS)
def test_each_kind_is_read_with_its_fingerprint(key, kind):
    written = line(key)
    found = read_public_key(f"  {written}\n")
    assert (found.kind, found.comment) == (kind, "boat@tidewrack.example")
    raw = base64.b64decode(written.split()[1])
    assert found.fingerprint == "SHA256:" + base64.b64encode(
        hashlib.sha256(raw).digest()
    ).decode().rstrip("=")


PRIVATE = ED.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption()).decode()
WORDS = line(ED).split()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (PRIVATE, "this is a private key; keep it where it is"),
        ("", "no public key in one line"),
        ("ssh-ed25519", "no public key in one line"),
        (line(ED) + "\n" + line(ED), "no public key in one line"),
        ("ssh-dss AAAAB3Nza x", "keys of type 'ssh-dss' are not taken"),
        (f"{WORDS[0]} {WORDS[1][:-8]} x", "the key is damaged"),
        (f"{WORDS[0]} !!!! x", "the key is damaged"),
        (f"ssh-rsa {WORDS[1]} x", "the key is damaged"),
        (line(rsa.generate_private_key(65537, 1024)), "an RSA key of 1024 bits is too short"),
    ],
    ids=[
        "private",
        "empty",
        "one word",
        "two lines",
        "old kind",
        "cut",
        "no base64",
        "another kind",
        "short",
    ],
)
def test_what_is_not_taken_is_told_and_nothing_of_a_private_key_is(text, said):
    with pytest.raises(BadValue, match=said) as caught:
        read_public_key(text)
    assert caught.value.expected and "PRIVATE" not in str(caught.value)


def test_a_comment_is_kept_short_and_can_be_printed():
    assert (
        read_public_key(line(ED, "a\x1b[31mb" + "c" * 500)).comment == ("a[31mb" + "c" * 500)[:200]
    )
    assert read_public_key(" ".join(WORDS[:2])).comment == ""
