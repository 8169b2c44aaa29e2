"""Private keys described: kind, bits, public half. The secret itself is dropped at once."""

from __future__ import annotations

from binascii import a2b_base64
from collections.abc import Callable
from hashlib import sha256
from typing import Any

import msgspec
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    load_der_private_key,
    load_pem_private_key,
)
from msgspec import structs

from rupex.model import Key, bounds
from rupex.parallel import apart
from rupex.pki.certificates import CredentialError, kind_of
from rupex.pki.der import rsa_flaw, rsa_public_key
from rupex.pki.derivation import refuse_costly
from rupex.pki.described import parse_description


def parse_private_key(content: bytes, password: str | None = None) -> Key:
    """The private key in ``content`` (PEM or DER), an encrypted one opened where its ``password`` is given and right. Raises
    :class:`CredentialError`.

    RSA keys are loaded without the library's own check of their primes, which takes a third of a second for each.
    """
    described = parse_description(content) if b"RUPEX KEY DESCRIPTION" in content else None
    if described is not None:
        return described
    pem = b"-----BEGIN" in content
    if pem and b"PRIVATE KEY-----" not in content:
        raise CredentialError("no private key in it")
    if not pem and not content.startswith(b"\x30"):
        raise CredentialError("no private key in it")
    plain = _plain_rsa(content)
    if plain is not None:
        return plain
    load = load_pem_private_key if pem else load_der_private_key
    try:
        key = load(content, None, unsafe_skip_rsa_key_validation=True)
    except TypeError:
        return _opened(content, load, password)
    except UnsupportedAlgorithm:  # a curve that the library no longer takes: a key all the same
        return Key("other", None, encrypted=False, public_sha256=None)
    except ValueError:
        raise CredentialError("the private key in it cannot be read") from None
    return _described(key)


def _opened(content: bytes, load: Callable[..., Any], password: str | None) -> Key:
    """An encrypted key, described from outside where the password does not open it."""
    closed = Key("other", None, encrypted=True, public_sha256=None)
    if password is None:
        return closed
    refuse_costly(content)

    def described() -> bytes:
        try:
            key = _described(load(content, password.encode(), unsafe_skip_rsa_key_validation=True))
        except (ValueError, UnsupportedAlgorithm, TypeError):
            key = closed
        return msgspec.msgpack.encode(structs.replace(key, encrypted=True))

    described_key = apart(described, bounds.DERIVATION_SECONDS)
    if described_key is None:
        raise CredentialError(f"not opened: it takes longer than {bounds.DERIVATION_SECONDS} s of processor time")
    return msgspec.msgpack.decode(described_key, type=Key)


def _described(key: Any) -> Key:
    public = key.public_key()
    spki = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return describe_private_key(key, kind_of(public), spki)


def describe_private_key(key: object, kind: tuple[str, int | None], spki: bytes) -> Key:
    """A private key of the library, with the ``kind`` and the DER form (``spki``) of its public half."""
    return Key(*kind, encrypted=False, public_sha256=sha256(spki).hexdigest(), flaw=_flaw(key))


def _flaw(key: object) -> str:
    """What makes a key unsound; kinds other than RSA are checked when they are loaded."""
    if not isinstance(key, rsa.RSAPrivateKey):
        return ""
    numbers = key.private_numbers()
    return rsa_flaw(numbers.public_numbers.n, numbers.public_numbers.e, numbers.p, numbers.q)


def rsa_is_whole(content: bytes, password: str | None = None) -> bool:
    """Whether an RSA key passes the library's whole check, primality of its primes included, which takes up to a second."""
    load = load_pem_private_key if b"-----BEGIN" in content else load_der_private_key
    try:
        load(content, None if password is None else password.encode())
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return False
    return True


def _plain_rsa(content: bytes) -> Key | None:
    """An RSA key that stands in one block of PEM, in clear; None for any other. The library takes four times as long."""
    label, mark, rest = content.partition(b"-----BEGIN ")[2].partition(b"-----")
    body, end, more = rest.partition(b"-----END ")
    if (
        label not in (b"PRIVATE KEY", b"RSA PRIVATE KEY")
        or not mark
        or not end
        or b"-----BEGIN" in more
        or b":" in body
    ):
        return None
    try:
        found = rsa_public_key(a2b_base64(body))
    except ValueError:
        return None  # the library says what is wrong with it
    if found is None:
        return None
    bits, spki, flaw = found
    return Key("RSA", bits, encrypted=False, public_sha256=sha256(spki).hexdigest(), flaw=flaw)
