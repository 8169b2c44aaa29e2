"""Secrets that lie in files: in clear in deployment files, and the stores of ACME clients."""

from __future__ import annotations

from typing import Final

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Fail, FileFacts, Judgement, Pass, Unknown
from rupex.model.change import Change

_LISTED: Final = 4


@control(
    "secret.plaintext",
    title="No secret is written out in a file",
    place="file",
    severity="high",
    why="What is written into a deployment file goes into its copies, its backups and its repository, to everybody who sees"
    " one of them.",
    references=("operational: a file is copied, a reference is not",),
    cwe=("CWE-256", "CWE-798"),
    evidence=("files",),
    change=Change("move-secret"),
    remedy=(
        "Put a reference there (a secret of the container platform, a file of root's own with mode 0600 "
        "that is named), and have a new secret issued."
    ),
)
def plaintext(file: FileFacts) -> Judgement:
    if file.kind not in ("configuration", "deployment"):
        return EXEMPT
    if file.secrets is None:
        return Unknown("it could not be read")
    if not file.secrets:
        return PASS
    named = ", ".join(f"{secret.name} in line {secret.line}" for secret in file.secrets[:_LISTED])
    more = f" and {len(file.secrets) - _LISTED} more" if len(file.secrets) > _LISTED else ""
    readers = file.readers.value
    closed = readers is not None and not readers.everyone and not readers.accounts
    message = f"in clear: {named}{more}"
    return Fail(f"{message}; only root can read the file", case="closed") if closed else Fail(message)


@control(
    "keystore.password",
    title="The key store's password is nobody else's",
    place="file",
    severity="high",
    why="Whoever has a copy of the store tries the factory passwords first; one that stands in a readable file is no password.",
    references=("operational: a password that everybody knows is none",),
    cwe=("CWE-1392", "CWE-256"),
    evidence=("config", "files"),
    change=Change("move-secret"),
    remedy="Give the store a password of its own, kept where only the server's account can read it.",
)
def keystore_password(file: FileFacts) -> Judgement:
    if file.kind != "keystore" or file.store is None:
        return EXEMPT
    if file.store.well_known:
        return Fail("its password is a well-known one", file.store.provenance)
    if not file.store.in_clear:
        return Pass(file.store.provenance)
    readers = file.readers.value
    if readers is None:
        return Unknown(file.readers.why_unknown)
    if readers.everyone:
        return Fail("its password stands in a file that everybody on the machine can read", file.store.provenance)
    return Pass(file.store.provenance)


@control(
    "acme.store",
    title="Only its client can read an ACME store",
    place="file",
    severity="high",
    why="It holds the account's key, which can have certificates issued for all of its names, and often every private key.",
    references=("RFC 8555 11.1", "operational: least privilege"),
    cwe=("CWE-732",),
    evidence=("files",),
    change=Change("file-mode", {"mode": "0600"}),
    remedy="chmod 600 FILE, owned by the account that runs the client.",
)
def acme_store(file: FileFacts) -> Judgement:
    if file.kind != "acme store":
        return EXEMPT
    readers = file.readers.value
    if readers is None:
        return Unknown(file.readers.why_unknown)
    if readers.everyone:
        return Fail(f"everybody on the machine can read it ({readers.because})")
    strangers = [account for account in readers.accounts if account != file.owner.value]
    if strangers:
        return Fail(f"{', '.join(strangers[:_LISTED])} can read it ({readers.because})")
    return PASS
