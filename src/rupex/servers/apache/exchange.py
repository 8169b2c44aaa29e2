"""One request on its way through the server, and the variables that configurations ask of it."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final, Literal
from urllib.parse import unquote

from rupex.model import ClientCertificate
from rupex.model.numbers import whole_number
from rupex.servers.apache.sections import Context, DirectoryWalk
from rupex.servers.apache.syntax import Directive
from rupex.servers.apache.variables import Variables
from rupex.servers.common.accounts import AccountFiles
from rupex.servers.common.answers import without_dots
from rupex.servers.common.clients import NONE, SUCCESS
from rupex.servers.common.host_names import HostNames
from rupex.servers.common.patterns import UndeterminedError

_SAFE: Final = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789$-_.+!*'(),:@&=/~")
"""What ``ap_os_escape_path`` leaves as it is (server/gen_test_char.c, T_OS_ESCAPE_PATH)."""
_DEFAULT_PORTS: Final = {"http": 80, "https": 443}
_SLASH: Final = re.compile("%(2f)", re.IGNORECASE)


@dataclass
class Exchange:
    """A request on its way through the server.

    ``uri``: the decoded path that rules see.
    ``args``: the query, None without one; ``sent``: path and query as sent.
    ``raw_path``: the path before it is decoded, empty for a request of the server's own.
    ``status``: that of its answer, while headers are worked out for it, else None.
    ``source``: the client's address, None where it is not known; ``peer``: that of the connection, which may be a proxy's.
    ``account``: the one it logs in with; ``accounts``: the files of them; ``is_asked``: for a login on the way;
    ``is_logged_in``: it did, with the right password;
    ``groups``: that it is a member of.
    ``host_names``: the host's own table of names.
    ``client``: what came out of the check of its certificate, and the certificate; None where that is not known.
    ``could_show``: the same, were it asked in a new handshake.
    ``asks_clients``: what the TLS handshake asked of it (the word of SSLVerifyClient); ``is_tls13``: it may have spoken TLS 1.3,
    in which clients are asked for nothing more later.
    ``environment``: its variables.
    ``file``: the path that it is mapped to so far; ``mapped_by``: the directive that does.
    ``inner``: how deep it lies in others, when the server makes it itself, for the page of a folder.
    ``canonical``: scheme (empty for that of the request), name and port (None for the usual one) that the server calls itself by,
    where it does not take the client's word.
    ``is_sample``: it stands for many requests, and not for itself.
    ``is_made_up``: its host name is a sample, which no configuration names.
    ``walk``: the way to its file, or before that to the file of the request that the server answers with this one.
    ``found_uri``: the path for which its file was found; ``page_uri``: that of the page which was last looked for in its place.
    ``let_in_under``: the sections under which the request that the server answers with this one was let in: under the very
    same ones it is not asked again.
    ``let_in_by``: the line that let it in.
    ``own_requests``: all that the server made itself so far, counted together.
    ``rewritten``: the file, or address, that rules made of it so far, while they hold.
    ``rewrites``: how often rules of folders changed its URL so far.
    ``is_past_rules``: a rule with ``[END]`` was met, and no rule holds for it any more.
    ``uncertain_headers``: headers whose value only run time knows, with why.
    ``is_there``: whether a path is that of a file or folder, None where that is not known.
    ``forced_type``: the type of content that a rule says; ``content_type``: that of its answer while headers are worked
    out for it, None where it is not known; empty for none, and before.
    ``cookies``: by name, those that rules set, with the rule.
    """

    method: str
    scheme: str
    host: str
    port: int
    uri: str
    args: str | None
    sent: str
    server_name: str
    raw_path: str = ""
    headers: dict[str, str] = field(default_factory=dict)
    environment: Variables = field(default_factory=Variables)
    document_root: str = ""
    file: str = ""
    mapped_by: Directive | None = None
    status: int | None = None
    inner: int = 0
    canonical: tuple[str, str, int | None] | None = None
    is_sample: bool = False
    is_made_up: bool = False
    walk: DirectoryWalk | None = None
    found_uri: str = ""
    page_uri: str = ""
    let_in_under: Context | None = None
    let_in_by: Directive | None = None
    own_requests: list[str] = field(default_factory=list)
    rewritten: str = ""
    rewrites: int = 0
    source: str | None = None
    peer: str | None = None
    host_names: HostNames | None = None
    client: tuple[str, ClientCertificate | None] | None = None
    could_show: tuple[str, ClientCertificate | None] = (NONE, None)
    asks_clients: str = "none"
    is_tls13: bool = True
    account: str | None = None
    accounts: AccountFiles | None = None
    is_asked: bool = False
    is_logged_in: bool = False
    groups: frozenset[str] = frozenset()
    is_past_rules: bool = False
    forced_type: str | None = None
    content_type: str | None = ""
    is_there: Callable[[str, Literal["file", "folder", "any"]], bool | None] = lambda path, kind: None
    uncertain_headers: dict[str, str] = field(default_factory=dict)
    cookies: dict[str, tuple[str, Directive]] = field(default_factory=dict)

    @property
    def is_inner(self) -> bool:
        return self.inner > 0

    @property
    def host_header(self) -> str:
        given = self.headers.get("host")
        if given is not None:
            return given
        return self.host if self.port == _DEFAULT_PORTS[self.scheme] else f"{self.host}:{self.port}"

    @property
    def status_text(self) -> str:
        """The status of the answer, which conditions of headers may ask for. Raises :class:`UndeterminedError`."""
        if self.status is None:
            raise UndeterminedError("%{REQUEST_STATUS} is known at run time only")
        return str(self.status)

    @property
    def type_text(self) -> str:
        """The type of the answer's content. Raises :class:`UndeterminedError`."""
        if self.content_type is None:
            raise UndeterminedError("the type of the content is known at run time only")
        return self.content_type

    @property
    def source_text(self) -> str:
        """The client's address. Raises :class:`UndeterminedError` where it is not known."""
        if self.source is None:
            raise UndeterminedError("%{REMOTE_ADDR} is the client's own")
        return self.source

    @property
    def file_name(self) -> str:
        """The file without what follows it in the path, or the URL path where no file is known yet; while rules hold, what the
        last one made of it."""
        if self.rewritten:
            return self.rewritten
        walked = "" if self.walk is None else self.walk.file
        if walked and self.file.startswith(f"{walked}/"):
            return walked
        return self.file or self.uri

    @property
    def own_name(self) -> str:
        """What the server calls itself in answer to this request (ap_get_server_name)."""
        return self.host_header.partition(":")[0] if self.canonical is None else self.canonical[1]

    @property
    def own_port(self) -> int:
        """The port that the server calls its own (ap_get_server_port)."""
        if self.canonical is not None:
            return self.canonical[2] or _DEFAULT_PORTS[self.own_scheme]
        if self.is_inner:
            return _DEFAULT_PORTS[self.scheme]  # such a request has no port of its own
        return whole_number(self.host_header.partition(":")[2]) or _DEFAULT_PORTS[self.scheme]

    @property
    def own_scheme(self) -> str:
        return self.scheme if self.canonical is None else self.canonical[0] or self.scheme

    @property
    def url(self) -> str:
        """The address that a client asks for."""
        return f"{self.scheme}://{self.host_header}{self.sent}"

    def absolute(self, path: str) -> str:
        """An address of the server's own (ap_construct_url)."""
        port = "" if self.own_port == _DEFAULT_PORTS[self.own_scheme] else f":{self.own_port}"
        return f"{self.own_scheme}://{self.own_name}{port}{path}"

    def header(self, name: str) -> str:
        """A header of the request, empty where it has none. Raises :class:`UndeterminedError` for what only run time knows."""
        if name.lower() in self.uncertain_headers:
            raise UndeterminedError(self.uncertain_headers[name.lower()])
        return self.headers.get(name.lower(), "")

    def environment_behind(self) -> Variables:
        """:attr:`environment` as a request has it that the server makes of this one."""
        renamed = self.environment.renamed()
        renamed.set("REDIRECT_STATUS", str(self.status or 200))
        renamed.set("REDIRECT_URL", self.uri)
        return renamed

    def tls_variable(self, name: str) -> str | None:
        """A variable of mod_ssl's about this connection; None for one that it has not. Raises :class:`UndeterminedError`."""
        upper = name.upper()
        if self.scheme != "https":
            return "off" if upper == "HTTPS" else None
        if upper == "HTTPS":
            return "on"
        if self.client is None or not upper.startswith("SSL_CLIENT_"):
            raise UndeterminedError(f"%{{{name}}} is known at run time only")
        verdict, certificate = self.client
        if upper == "SSL_CLIENT_VERIFY":
            if verdict not in (NONE, SUCCESS) and self.is_tls13:
                raise UndeterminedError(f"%{{{name}}} says in the crypto library's words why the certificate failed")
            return verdict
        if certificate is None:
            return None
        known = {"SSL_CLIENT_S_DN": certificate.subject, "SSL_CLIENT_I_DN": certificate.issuer}
        known |= {"SSL_CLIENT_M_SERIAL": certificate.serial}
        known |= {f"SSL_CLIENT_{part}": value for part, value in certificate.parts.items()}
        if upper not in known:
            raise UndeterminedError(f"%{{{name}}} is known at run time only")
        return known[upper]

    def variable(self, name: str) -> str:
        """``%{NAME}`` of rewrite conditions and expressions. Raises :class:`UndeterminedError` for what only run time knows."""
        kind, colon, rest = name.partition(":")
        if colon and kind.upper() in ("HTTP", "REQ", "REQ_NOVARY"):
            return self.header(rest) if rest.lower() != "host" else self.host_header
        if colon and kind.upper() in ("ENV", "E"):
            return self.environment.value(rest) or ""
        if colon and kind.upper() == "SSL":
            return self.tls_variable(rest) or ""
        if colon:
            raise UndeterminedError(f"%{{{name}}} is known at run time only")
        upper = name.upper()
        if upper in _KNOWN:
            return _KNOWN[upper](self)
        if upper.startswith("HTTP_"):
            return self.header(upper[5:].replace("_", "-"))
        if upper.startswith("SSL_CLIENT_"):
            return self.tls_variable(upper) or ""
        raise UndeterminedError(f"%{{{name}}} is known at run time only")


_KNOWN: Final[dict[str, Callable[[Exchange], str]]] = {
    "HTTP_HOST": lambda x: x.host_header,
    "HTTPS": lambda x: "on" if x.scheme == "https" else "off",
    "REQUEST_SCHEME": lambda x: x.scheme,
    "SERVER_PORT": lambda x: str(x.own_port),
    "SERVER_NAME": lambda x: x.own_name,
    "REQUEST_METHOD": lambda x: x.method,
    "REQUEST_URI": lambda x: x.uri,
    "QUERY_STRING": lambda x: x.args or "",
    "REQUEST_FILENAME": lambda x: x.file_name,
    "SCRIPT_FILENAME": lambda x: x.file_name,
    "DOCUMENT_ROOT": lambda x: x.document_root,
    "THE_REQUEST": lambda x: f"{x.method} {x.sent} HTTP/1.1",
    "REMOTE_ADDR": lambda x: x.source_text,
    "REMOTE_USER": lambda x: x.account or "" if x.is_asked else "",
    "REQUEST_STATUS": lambda x: x.status_text,
    "CONTENT_TYPE": lambda x: x.type_text,
    "SERVER_PROTOCOL": lambda x: "HTTP/1.1",
    "IS_SUBREQ": lambda x: "true" if x.is_inner else "false",
}


def escaped(path: str) -> str:
    """``path`` as the server puts it into a Location (ap_os_escape_path)."""
    raw = path.encode("utf-8", "surrogateescape")
    return "".join(chr(octet) if octet in _SAFE else f"%{octet:02x}" for octet in raw)


def decoded(path: str) -> str:
    return unquote(path, errors="surrogateescape")


def normalise(path: str, *, keeps_slashes: bool = False) -> str:
    """A request path as sections see it: decoded, slashes merged, dots resolved (ap_normalize_path). ``keeps_slashes``: those
    that are escaped stay so."""
    text = _SLASH.sub("%25\\1", path) if keeps_slashes else path
    return without_dots(re.sub("/{2,}", "/", decoded(text)))
