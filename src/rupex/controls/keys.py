"""Private keys, configuration files and document roots: who may read and write them."""

from __future__ import annotations

from typing import Final

from rupex.controls.catalogue import control
from rupex.model import EXEMPT, PASS, Audience, Fail, FileFacts, Host, Judgement, Pass, Unknown
from rupex.model.change import Change

_STICKY: Final = 0o1000
"""In a folder with this bit only a file's owner may rename it (chmod(1))."""


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
    change=Change("file-mode", {"mode": "0600"}),
    remedy="chown root:root KEY && chmod 600 KEY; then treat the key as known to others: reissue and revoke.",
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
    change=Change("file-owner", {"owner": "root"}),
    remedy="chown root KEY (or the server's own account, where it opens the key itself).",
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
    "key.reach",
    title="Whoever opens the key can read it",
    place="file",
    severity="high",
    why="A server that cannot read its key does not start, at the next restart and not before.",
    references=("operational: a mode can be too tight as well",),
    cwe=("CWE-280",),
    evidence=("files",),
    change=Change("file-owner"),
    remedy="Give the account that opens the key the right to read it, by owner or by a group of its own.",
)
def key_reach(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    openers = [s.opens_keys for s in host.services if s.family in file.services and s.opens_keys is not None]
    if not openers:
        return Pass(message="opened by root")
    if file.readers.value is None:
        return Unknown(file.readers.why_unknown)
    for opener in openers:
        if opener.value is None:
            return Unknown(opener.why_unknown, opener.provenance)
        readers = file.readers.value
        if opener.value != "root" and not readers.everyone and opener.value not in readers.accounts:
            return Fail(f"{opener.value}, which opens it, cannot read it ({readers.because})")
    return PASS


@control(
    "key.folder",
    title="Nobody else can put files where the key lies",
    place="file",
    severity="medium",
    why="Whoever may write to a folder on the way can put a key of their own in its place.",
    references=("operational: path_resolution(7), renaming needs no right on the file",),
    cwe=("CWE-732",),
    evidence=("files",),
    change=Change("file-mode", {"mode": "go-w"}),
    remedy="chown root FOLDER && chmod go-w FOLDER, for each folder on the way to the key.",
)
def key_folder(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    if file.mode.value is None:
        return Unknown(file.mode.why_unknown)
    own = _own_accounts(file, host)
    doubt = ""
    for folder in file.folders:
        writers = folder.writers.value if folder.writers is not None else None
        if writers is None:
            continue
        if writers.everyone and not folder.mode & _STICKY:
            return Fail(f"everybody on the machine can put files into {folder.path or '/'} ({writers.because})")
        strangers = [account for account in writers.accounts if account not in own]
        if strangers and not writers.everyone:
            return Fail(f"{', '.join(strangers[:4])} can put files into {folder.path or '/'} ({writers.because})")
        if folder.owner.value is None:
            doubt = doubt or folder.owner.why_unknown
    return Unknown(doubt) if doubt else PASS


def _served_from(path: str, host: Host) -> str:
    """The document root in which ``path`` lies; empty for none."""
    while path := path.rpartition("/")[0]:
        if any(path in service.document_roots for service in host.services):
            break
    return path


@control(
    "key.place",
    title="The key lies where keys belong",
    place="file",
    severity="medium",
    why="What lies under a document root is one request away from everybody; what lies in a temp folder or a home, from others.",
    references=("operational: what lies under the document root is served",),
    cwe=("CWE-219",),
    evidence=("files",),
    remedy=(
        "Move the key to a folder of the server's own, such as /etc/ssl/private; make a new one where it was served."
    ),
)
def key_place(file: FileFacts, host: Host, *, unfit: tuple[str, ...]) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    folder = _served_from(file.path, host)
    if folder:
        return Fail(f"it lies under the document root {folder}", case="served")
    lowered = file.path.lower()
    for place in unfit:
        if lowered.startswith(f"{place}/") or f"/{place}/" in lowered:
            return Fail(f"it lies in {place}, which is for other things")
    is_home = lowered.startswith("home/") and file.owner.value not in _own_accounts(file, host)
    return Fail("it lies in a person's home") if is_home else PASS


@control(
    "key.copies",
    title="No copy of the key lies about",
    place="file",
    severity="high",
    why="A copy keeps its old mode and is forgotten, and it opens the same connections.",
    references=("operational: a backup of a secret is the secret",),
    cwe=("CWE-530",),
    evidence=("files",),
    change=Change("remove-file"),
    remedy="Remove the copy; where others could read it, make a new key.",
)
def key_copies(file: FileFacts, host: Host, *, unfit: tuple[str, ...]) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    if file.backups:
        return Fail(f"{', '.join(file.backups[:4])} holds a key too")
    for copy in file.copies:
        wider = _wider(copy.readers.value, file.readers.value)
        if wider:
            return Fail(f"{copy.path} is the same key, and {wider} can read it")
        if _served_from(copy.path, host):
            return Fail(f"{copy.path} is the same key, under a document root")
        if any(copy.path.startswith(f"{place}/") or f"/{place}/" in copy.path.lower() for place in unfit):
            return Fail(f"{copy.path} is the same key, in a place for other things")
    return Unknown(file.mode.why_unknown) if file.mode.value is None else PASS


def _wider(copy: Audience | None, configured: Audience | None) -> str:
    """Who can read the copy of a key and not the configured one, in words; empty for nobody that is known."""
    if copy is None or configured is None or configured.everyone:
        return ""
    if copy.everyone:
        return "everybody on the machine"
    return ", ".join([name for name in copy.accounts if name not in configured.accounts][:4])


@control(
    "key.sound",
    title="The key is sound",
    place="file",
    severity="high",
    why="A key with a small exponent or close primes can be worked out from its public half.",
    references=("FIPS 186-5 A.1.1", "FIPS 186-5 A.1.3", "SP 800-56Br2 6.2"),
    cwe=("CWE-326",),
    evidence=("files",),
    change=Change("key"),
    remedy="Make a new key with the crypto library's own tool, and have a certificate issued for it.",
)
def key_sound(file: FileFacts) -> Judgement:
    if file.kind != "key":
        return EXEMPT
    if file.key is None:
        return Unknown("the key was not read")
    if file.key.flaw is None:
        return Unknown("the key is encrypted" if file.key.encrypted else "not looked at")
    return Fail(file.key.flaw) if file.key.flaw else PASS


@control(
    "config.mode",
    title="Only root can change the configuration",
    place="file",
    severity="critical",
    why="Whoever writes the configuration decides what the server, started as root, reads and runs.",
    references=("operational: least privilege",),
    cwe=("CWE-732",),
    evidence=("files",),
    change=Change("file-mode", {"mode": "go-w"}),
    remedy="chown root FILE && chmod go-w FILE, and the same for the folders on the way.",
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


@control(
    "override.mode",
    title="The server cannot change its own override files",
    place="file",
    severity="medium",
    why="Whoever makes a request's handling write one can switch access rules off, and run what was uploaded.",
    references=("operational: least privilege",),
    cwe=("CWE-732",),
    evidence=("files",),
    change=Change("file-mode", {"mode": "go-w"}),
    remedy="chown root FILE && chmod go-w FILE, and the same for its folder; or move its lines into the configuration.",
)
def override_mode(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "override":
        return EXEMPT
    return _writable_by_workers(file, host, "change it")


@control(
    "webroot.mode",
    title="The server cannot change what it serves",
    place="file",
    severity="medium",
    why="A fault in a request's handling becomes a page of the attacker's own, served to everybody.",
    references=("operational: least privilege",),
    cwe=("CWE-732",),
    evidence=("files",),
    change=Change("file-mode", {"mode": "go-w"}),
    remedy="chown root FOLDER && chmod go-w FOLDER; give uploads a folder of their own that runs nothing.",
)
def webroot_mode(file: FileFacts, host: Host) -> Judgement:
    if file.kind != "document root":
        return EXEMPT
    return _writable_by_workers(file, host, "put files into it")


def _writable_by_workers(file: FileFacts, host: Host, what: str) -> Judgement:
    """Whether the account that handles requests can write to ``file``; ``what`` it then can do."""
    writers = file.writers.value
    if writers is None:
        return Unknown(file.writers.why_unknown)
    if writers.everyone:
        return Fail(f"everybody on the machine can {what} ({writers.because})")
    workers = {s.workers.value for s in host.services if s.family in file.services}
    able = [account for account in writers.accounts if account in workers]
    if able:
        return Fail(f"{able[0]}, which handles requests, can {what} ({writers.because})")
    return Unknown(file.owner.why_unknown) if file.owner.value is None else PASS
