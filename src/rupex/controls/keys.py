"""Private keys and configuration files: who may read and write them."""

from __future__ import annotations

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Fail, FileFacts, Host, Judgement, Pass, Unknown


def _own_accounts(file: FileFacts, host: Host) -> set[str]:
    """Root and the accounts of the servers that use ``file``."""
    return {"root"} | {s.workers.value for s in host.services if s.family in file.services and s.workers.value}


@control(
    "key.mode",
    title="Only the server can read its private key",
    place="file",
    severity="critical",
    why="Whoever reads the key can be this server, and, without forward secrecy, read its recorded past.",
    references=("operational: least privilege", "SP 800-57 Part 1 6.2.2.3"),
    cwe=("CWE-732",),
    evidence=("files",),
    remedy={"*": "chown root:root KEY && chmod 600 KEY; then treat the key as known to others: reissue and revoke."},
)
def key_mode(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    readers = file.readers.value
    if readers is None:
        return Unknown(file.readers.why_unknown)
    if readers.everyone:
        return Fail(f"everybody on the machine can read it ({readers.because})", case="everyone")
    strangers = [a for a in readers.accounts if a not in _own_accounts(file, host) and a != file.owner.value]
    if strangers:
        return Fail(f"{', '.join(strangers[:4])} can read it ({readers.because})", case="group")
    if readers.closed_by is not None:
        return Pass(message=f"its mode would let others in, the folder {readers.closed_by} does not")
    return PASS


@control(
    "key.owner",
    title="The key belongs to root or the server",
    place="file",
    severity="high",
    why="An owner can read the key and loosen its mode at any time.",
    references=("operational: least privilege",),
    cwe=("CWE-732",),
    evidence=("files",),
    remedy={"*": "chown root KEY (or the server's own account, where it opens the key itself)."},
)
def key_owner(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    if file.owner.value is None:
        return Unknown(file.owner.why_unknown)
    if file.owner.value in _own_accounts(file, host):
        return PASS
    return Fail(f"it belongs to {file.owner.value}")


@control(
    "config.mode",
    title="Only root can change the configuration",
    place="file",
    severity="critical",
    why="Whoever writes the configuration decides what the server, started as root, reads and runs.",
    references=("operational: least privilege",),
    cwe=("CWE-732",),
    evidence=("files",),
    remedy={"*": "chown root FILE && chmod go-w FILE, and the same for the folders on the way."},
)
def config_mode(file: FileFacts, host: Host, *, administrators: tuple[str, ...]) -> Judgement:
    if file.kind != "configuration":
        return EXEMPT
    writers = file.writers.value
    if writers is None:
        return Unknown(file.writers.why_unknown)
    if writers.everyone:
        return Fail(f"everybody on the machine can change it ({writers.because})")
    strangers = [account for account in writers.accounts if account not in administrators]
    if strangers:
        return Fail(f"{', '.join(strangers[:4])} can change it ({writers.because})")
    if file.owner.value is None:
        return Unknown(file.owner.why_unknown)
    return PASS
