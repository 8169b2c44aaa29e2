"""What a server makes of the certificate that a client shows, or does not."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final

from rupex.host import HostTree, TreeError
from rupex.model import ClientCertificate, bounds
from rupex.servers.common.patterns import UndeterminedError

NONE: Final = "NONE"
"""No certificate was asked for, or none was shown; what servers call it."""
SUCCESS: Final = "SUCCESS"
_FAILED: Final = "FAILED:"


def verdict_of(certificate: ClientCertificate | None, tree: HostTree, trusted: Iterable[str], depth: int) -> str:
    """:data:`NONE`, :data:`SUCCESS`, or why a certificate is not taken by a server that trusts the authorities in the files
    ``trusted`` over ``depth`` others. Raises :class:`~rupex.servers.common.patterns.UndeterminedError` where the tree does not
    hold them."""
    if certificate is None:
        return NONE
    from rupex.pki.certificates import CredentialError, der_forms
    from rupex.pki.clients import why_not_taken

    anchors: list[bytes] = []
    for path in trusted:
        try:
            anchors += der_forms(tree.read(path, bounds.CREDENTIAL_FILE_BYTES))
        except TreeError as error:
            raise UndeterminedError(f"which clients are trusted is not known: {path}: {error.message}") from None
        except CredentialError as error:
            raise UndeterminedError(f"which clients are trusted is not known: {path}: {error}") from None
    why = why_not_taken(certificate.chain, anchors, depth)
    return SUCCESS if why is None else f"{_FAILED}{why}"


def may_be_passed_on(verdict: str) -> bool:
    """Whether a verdict is one with which a server goes on that asks for certificates of any authority (``optional_no_ca``)."""
    from rupex.pki.clients import UNTRUSTED

    return reason(verdict) in (NONE, SUCCESS, UNTRUSTED)


def reason(verdict: str) -> str:
    """Why a certificate is not taken, of a verdict that says so."""
    return verdict.removeprefix(_FAILED)
