"""What a server makes of the certificate that a client shows, or does not."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Final, NamedTuple

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


class Shown(NamedTuple):
    """What a server makes of what a client shows: whether it goes on, and the step of the answer that says so,
    None where there is nothing to say."""

    goes_on: bool
    step: str | None


def what_is_made_of(verdict: str, *, is_demanded: bool, takes_any: bool) -> Shown:
    """What becomes of a client with a ``verdict``. ``is_demanded``: it must show a certificate; ``takes_any``: one of an
    authority that the server does not trust will do (``optional_no_ca``)."""
    from rupex.pki.clients import UNTRUSTED

    why = verdict.removeprefix(_FAILED)
    if verdict == NONE:
        words = "a certificate is asked of the client, and this one has none"
        return Shown(not is_demanded, words if is_demanded else None)
    if verdict == SUCCESS:
        return Shown(True, "the client's certificate is taken")
    if takes_any and why == UNTRUSTED:
        return Shown(True, f"the client's certificate is not trusted, and passed on: {why}")
    return Shown(False, f"the client's certificate is refused: {why}")
