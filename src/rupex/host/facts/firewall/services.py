"""Names of ports as packet filters take them: those that the machine's services(5) has for the ports that matter here."""

from __future__ import annotations

from typing import Final

_PORTS: Final = {  # IANA, "Service Name and Transport Protocol Port Number Registry", read on 2026-11-26
    "ftp": 21, "ssh": 22, "telnet": 23, "smtp": 25, "domain": 53, "http": 80, "www": 80, "kerberos": 88, "pop3": 110,
    "imap2": 143, "imap": 143, "ldap": 389, "https": 443, "submissions": 465, "submission": 587, "ldaps": 636, "imaps": 993,
    "pop3s": 995, "mysql": 3306, "ms-wbt-server": 3389, "postgresql": 5432, "http-alt": 8080, "webcache": 8080,
    "https-alt": 8443, "pcsync-https": 8443, "mdns": 5353, "rsync": 873, "nfs": 2049, "redis": 6379,
}  # fmt: skip


def port_number(text: str) -> int | None:
    """The port that ``text`` names or is; None for neither."""
    if text.isdecimal() and len(text) <= 5:
        return int(text) if int(text) <= 65535 else None
    return _PORTS.get(text)
