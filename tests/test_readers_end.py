"""Every reader of untrusted text takes linear time for long runs of one thing. Work of patterns cannot be counted, so each
reader has a limit of processor time, several times what it takes, that anything quadratic exceeds."""

from __future__ import annotations

import contextlib
import re
import unittest
from collections.abc import Callable
from typing import Any, Final

from rupex.host.facts import library, schedules
from rupex.host.facts.firewall import firewalld, iptables, nft
from rupex.host.rights import access
from rupex.host.tree import mtree, snapshot_tables
from rupex.http import assets, cookies, csp, defaults, hsts, policies, product, urls
from rupex.masking import quoting, secrets
from rupex.masking.texts import LANGUAGES, shown
from rupex.parallel import apart
from rupex.pki import certificates, derivation, described, keys
from rupex.servers.apache import syntax as apache
from rupex.servers.nginx import syntax as nginx
from rupex.servers.tomcat import syntax as tomcat
from rupex.tls import dh, openssl, opensslconf
from rupex.tls.openssl import Library
from rupex.wire.observe.visit import known_paths

SIZE: Final = 1 << 15
PIECES: Final = ("\n", " ", "a", "a.", "-a", '"', "\\", "<a ", "a=", "password=", "${", "/", "A\n")
SECONDS: Final = 20

Reader = Callable[[str], Any]

READERS: Final[dict[str, Reader]] = {
    **{f"masked {language}": (lambda text, language=language: shown(text, language)) for language in LANGUAGES},  # type: ignore[misc]
    **{f"a page of {path.target}": (lambda text, sign=path.sign: re.search(sign, text, re.M | re.I)) for path in known_paths()},  # type: ignore[misc]
    "nginx": lambda text: nginx.parse("a", text),
    "apache": lambda text: apache.parse("a", text),
    "words of apache": apache.split_words,
    "tomcat": lambda text: tomcat.parse_xml("a", text.encode(), {}),
    "properties": tomcat.parse_properties,
    "openssl.cnf": lambda text: opensslconf.parse_system_default("a", text, lambda _: None),  # type: ignore[arg-type,return-value]
    "ciphers": lambda text: openssl.expand_uncounted(text, Library((3, 0, 0))),
    "secrets": secrets.find_secrets,
    "a message": quoting.redacted,
    "a word": quoting.quoted,
    "a cookie": cookies.parse_cookie,
    "Content-Security-Policy": csp.parse_csp,
    "Strict-Transport-Security": hsts.parse_hsts,
    "Permissions-Policy": policies.parse_permissions,
    "Referrer-Policy": lambda text: policies.effective_referrer([text]),
    "Server": product.tells_version,
    "a page": defaults.default_page,
    "a URL": urls.split_url,
    "a redirect": lambda text: urls.resolved("http://a.test/", text),
    "a pattern of files": assets.matches_only_assets,
    "an access list": access.parse_access_list,
    "a release": library.parse_release,
    "a manifest": mtree.parse_mtree,
    "a table": lambda text: list(snapshot_tables.rows_of(text)),
    "cron": schedules.parse_cron,
    "a calendar": schedules.parse_calendar,
    "a span": schedules.parse_span,
    "iptables": lambda text: iptables.parse_iptables("a", text),
    "nftables": lambda text: nft.parse_nft("a", text),
    "firewalld": lambda text: firewalld.parse_zone("a", text.encode(), lambda _: None),
    "parameters": lambda text: dh.parse_dh_parameters(text.encode()),
    "certificates": lambda text: certificates.parse_certificates(text.encode()),
    "a key": lambda text: keys.parse_private_key(text.encode()),
    "a description": lambda text: described.parse_description(text.encode()),
    "rounds": lambda text: derivation.rounds_in(text.encode()),
}  # fmt: skip


def read_all(reader: Reader) -> bytes:
    for piece in PIECES:
        for frame in ("{}", "a {}!", 'x="{}\x01'):
            with contextlib.suppress(Exception):  # what is no text of its kind is refused, each in its own way
                reader(frame.replace("{}", piece * (SIZE // len(piece))))
    return b"done"


class ReadersTest(unittest.TestCase):
    def test_every_reader_ends(self) -> None:
        for name, reader in READERS.items():
            with self.subTest(name):
                self.assertEqual(apart(lambda reader=reader: read_all(reader), SECONDS), b"done")  # type: ignore[misc]


if __name__ == "__main__":
    unittest.main()
