"""nginx's variables for one request, the texts that hold them, and the tables (map, geo) that define them.

Follows ``ngx_http_script_compile`` (src/http/ngx_http_script.c), ngx_http_core_module, "Embedded Variables", and
ngx_http_map_module. A variable that only run time knows raises :class:`~rupex.servers.common.patterns.UndeterminedError`.
"""

from __future__ import annotations

import re
from base64 import urlsafe_b64encode
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from hashlib import md5
from typing import TYPE_CHECKING, Final, Literal, NamedTuple
from urllib.parse import quote

from rupex.masking.quoting import quoted
from rupex.model import ClientCertificate, bounds
from rupex.model.budget import joined, spend
from rupex.model.numbers import whole_number
from rupex.servers.common.accounts import AccountFiles
from rupex.servers.common.addresses import Address, parse_address, parse_network
from rupex.servers.common.clients import NONE, SUCCESS
from rupex.servers.common.patterns import UndeterminedError, search
from rupex.servers.nginx.block import Block, models_in
from rupex.servers.nginx.syntax import Directive

if TYPE_CHECKING:
    import regex

_VARIABLE = re.compile(r"\$(?:([1-9])|\{([A-Za-z0-9_]+)\}|([A-Za-z0-9_]+))")

# Headers that every client sends in its own way: a configuration that asks for them decides at run time.
CLIENTS_OWN: Final = frozenset(
    {"user-agent", "accept", "accept-encoding", "accept-language", "cookie", "referer", "connection"}
)

# Parts of a request that are decoded before a variable has them: in a header they can bring a line end along.
DECODED: Final = frozenset({"uri", "document_uri", "request_filename", "realpath_root", "fastcgi_script_name"})

# What tells about the inside of the house.
INTERNAL: Final = frozenset(
    {
        "hostname",
        "server_addr",
        "upstream_addr",
        "proxy_host",
        "proxy_port",
        "realpath_root",
        "document_root",
        "pid",
        "nginx_version",
    }
)

_DEEPEST_SET: Final = 16
"""Variables that are set to each other."""
_DEEPEST_MAP: Final = 12
"""Tables whose source is the variable of another; nginx itself only refuses a circle."""


@lru_cache(maxsize=8192)
def compile_text(text: str) -> tuple[str | tuple[str], ...]:
    """A text as its parts: literals, and variable names as one-tuples. Captures are named by their digit."""
    if "$" not in text:
        return (text,)
    parts: list[str | tuple[str]] = []
    position = 0
    for match in _VARIABLE.finditer(text):
        if match.start() > position:
            parts.append(text[position : match.start()])
        parts.append((match[1] or match[2] or match[3],))
        position = match.end()
    if position < len(text):
        parts.append(text[position:])
    return tuple(parts)


def names_in(text: str) -> tuple[str, ...]:
    """The variables that ``text`` holds, in order."""
    return tuple(part[0] for part in compile_text(text) if isinstance(part, tuple))


class Table(NamedTuple):
    """A ``map``, ``geo`` or ``split_clients`` block: ``source`` to one of the values, by the ``exact`` words of a map or its
    ``patterns``, which are networks in a geo and shares in a split_clients. ``is_constant``: to the same always."""

    kind: Literal["map", "geo", "split_clients"]
    source: str
    exact: dict[str, str]
    patterns: tuple[tuple[str, bool, str], ...]
    default: str
    hostnames: bool
    volatile: bool
    is_constant: bool


class Definitions(NamedTuple):
    """The variables that a configuration defines: ``tables``, and the names that ``set`` may give a value."""

    tables: Mapping[str, Table]
    settable: frozenset[str]


_ACTING: Final = frozenset(("", "http", "server", "location", "if", "limit_except"))
"""Blocks whose ``set`` is a directive."""

NOTHING_DEFINED: Final = Definitions({}, frozenset())


def read_definitions(http: Block) -> Definitions:
    """All variables that the http block and what it holds define."""
    tables: dict[str, Table] = {}
    for block in http.blocks("map", "geo", "split_clients"):
        if block.args:
            tables[block.args[-1].removeprefix("$")] = _table(block)
    settable = {
        directive.args[0].removeprefix("$")
        for block in models_in(http)
        if block.name in _ACTING
        for directive in block.all("set")
        if directive.args
    }
    return Definitions(tables, frozenset(settable))


def _table(block: Block) -> Table:
    exact: dict[str, str] = {}
    patterns: list[tuple[str, bool, str]] = []
    default, hostnames, volatile = "", False, False
    for entry in block.children:
        key = entry.name
        value = entry.args[0] if entry.args else ""
        if not entry.args:
            hostnames, volatile = hostnames or key == "hostnames", volatile or key == "volatile"
        elif key == "default":
            default = value
        elif block.name != "map":
            patterns.append((key, False, value))
        elif key.startswith("~"):
            folds = key.startswith("~*")
            patterns.append((key[2 if folds else 1 :], folds, value))
        else:
            exact.setdefault(key.removeprefix("\\").lower(), value)
    source = block.args[0] if len(block.args) > 1 else "$remote_addr"
    is_constant = len({default, *exact.values(), *(value for _, _, value in patterns)}) == 1
    return Table(block.name, source, exact, tuple(patterns), default, hostnames, volatile, is_constant)  # type: ignore[arg-type]


@dataclass(slots=True)
class Exchange:
    """One request on its way through the server: what was asked, and what became of it so far.

    ``uri``: the path, decoded and normalised; ``args``: the query; ``request_uri``: both as sent.
    ``escaped``: the path had a percent or plus sign.
    ``headers``: lower-case names to values. One that is not there was not sent, but for those of :data:`CLIENTS_OWN`, of which
    that is not known.
    ``source``: the client's address, None where it is not known; ``peer``: that of the connection, which may be a proxy's.
    ``account``: the one it logs in with; ``accounts``: the files of them.
    ``client``: what came out of the check of its certificate, and the certificate.
    ``content_type``: of its answer, None where it is not known.
    ``is_sample``: it stands for many requests, and not for itself.
    ``asks_files``: it matters which files are there.
    ``variables``: those that have a value so far; ``captures``: of the last pattern that matched.
    ``lost``: variables whose value comes from a directive that is not modelled, and why it is not known.
    ``link``: what ``secure_link`` and ``secure_link_md5`` say where it is.
    ``root``, ``filename``: of the file that was last looked for; with ``alias`` the file is not under the root.
    ``changed``: a rewrite gave it another URI since its location was found.
    ``is_off_location``: it has a URI that its location need not match.
    ``is_internal``: it was sent on inside the server, which any rewrite of its URI does too.
    ``uri_changes``: how often it may still be, or get another URI; the last time it ends with 500.
    ``depth``: how many tables are asked for each other just now.
    ``challenges``: for passwords that were asked for on the way, of which an error's page loses none.
    """

    method: str
    scheme: str
    host: str
    host_header: str
    port: int | None
    address: str
    uri: str
    args: str
    request_uri: str
    server_name: str
    headers: dict[str, str] = field(default_factory=dict)
    variables: dict[str, str] = field(default_factory=dict)
    captures: tuple[str | None, ...] = ()
    status: int | None = None
    content_type: str | None = None
    source: str | None = None
    peer: str | None = None
    account: str | None = None
    accounts: AccountFiles | None = None
    client: tuple[str, ClientCertificate | None] = (NONE, None)
    is_sample: bool = True
    root: str | None = None
    filename: str | None = None
    definitions: Definitions = NOTHING_DEFINED
    changed: bool = False
    escaped: bool = False
    asks_files: bool = True
    is_off_location: bool = False
    challenges: list[str] = field(default_factory=list)
    lost: dict[str, str] = field(default_factory=dict)
    link: tuple[str, str] | None = None
    is_internal: bool = False
    depth: int = 0
    uri_changes: int = bounds.REWRITE_CYCLES + 1

    def capture(self, match: regex.Match[str]) -> None:
        """Keep what a pattern matched: by number, and by name as variables."""
        self.captures = (match[0], *match.groups())
        for name, value in match.groupdict().items():
            self.variables[name] = value or ""

    def give(self, name: str, value: str) -> None:
        """The variable ``name`` has ``value`` from here on."""
        self.variables[name] = value
        self.lost.pop(name, None)

    def lose(self, directive: Directive | Block) -> None:
        """The variable that ``directive`` names has from here on a value that is not worked out."""
        if directive.args:
            why = f"{directive.name} ({directive.provenance()}) is not modelled"
            self.lost[directive.args[0].removeprefix("$")] = why

    def value(self, name: str) -> str:
        """The value of the variable ``name``. Raises :class:`UndeterminedError`."""
        index = whole_number(name)
        if index is not None:
            return (self.captures[index] or "") if index < len(self.captures) else ""
        if name in self.lost:
            raise UndeterminedError(f"${name}: {self.lost[name]}")
        if name in self.variables:
            return self.variables[name]
        table = self.definitions.tables.get(name)
        if table is not None:
            found = self._looked_up(name, table)
            if not table.volatile:  # worked out once for a request, whatever becomes of its source
                self.variables[name] = found
            return found
        if name in self.definitions.settable:
            return ""
        if name == "secure_link" and not self.is_sample and self.link is not None:
            return self._secure_link(*self.link)
        if name.startswith("arg_"):
            return self._argument(name[4:])
        if name.startswith("cookie_") and "cookie" in self.headers:
            return self._cookie(name[7:])
        if name.startswith("http_") and name != "http_host":
            header = name[5:].replace("_", "-")
            if header in self.headers:
                return self.headers[header]
            if header in CLIENTS_OWN:
                raise UndeterminedError(f"${name} is the client's own")
            return ""
        return self._embedded(name)

    def _secure_link(self, said: str, hashed: str) -> str:
        """``$secure_link``: ``1`` where the checksum is right, else empty. Raises :class:`UndeterminedError` where it can run out
        (ngx_http_secure_link_module)."""
        checksum, mark, expires = self.fill(said).partition(",")
        if mark and not (whole_number(expires) or 0):
            return ""
        digest = md5(self.fill(hashed).encode("utf-8", "surrogateescape"), usedforsecurity=False).digest()
        if checksum.rstrip("=").replace("+", "-").replace("/", "_") != urlsafe_b64encode(digest).decode().rstrip("="):
            return ""
        if mark:
            raise UndeterminedError("$secure_link goes by the time")
        return "1"

    def _embedded(self, name: str) -> str:
        read = _EMBEDDED.get(name)
        value = None if read is None else read(self)
        if value is None:
            raise UndeterminedError(f"${name} is known at run time only")
        return value

    def _argument(self, name: str) -> str:
        for pair in self.args.split("&"):
            key, _, value = pair.partition("=")
            if key.lower() == name.lower():
                return value
        return ""

    def _cookie(self, name: str) -> str:
        for pair in self.headers["cookie"].split(";"):
            key, _, value = pair.strip().partition("=")
            if key.lower() == name.lower():
                return value
        return ""

    def _looked_up(self, name: str, table: Table) -> str:
        """The value of a table's variable (ngx_http_map_find): exact, then host names, then patterns in order."""
        if self.depth >= _DEEPEST_MAP:
            raise UndeterminedError(f"${name} is worked out from too many other variables")
        self.depth += 1
        try:
            if table.is_constant:
                return self._table_value(name, table.default)
            spend(1 + len(table.patterns))
            source = self.fill(table.source)
            if table.kind != "map":
                chosen = by_address(source, table) if table.kind == "geo" else by_hash(source, table)
                return self._table_value(name, table.default if chosen is None else chosen)
            key = source.lower()
            found = table.exact.get(key)
            if found is None and table.hostnames:
                found = _by_host_name(key.rstrip("."), table.exact)
            if found is None:
                for pattern, folds, value in table.patterns:
                    match = search(pattern, source, ignore_case=folds)
                    if match is not None:
                        self.capture(match)
                        found = value
                        break
            return self._table_value(name, table.default if found is None else found)
        finally:
            self.depth -= 1

    def _table_value(self, name: str, text: str) -> str:
        if any(not isinstance(part, str) and part[0] == name for part in compile_text(text)):
            raise UndeterminedError(f"${name} is defined by itself")
        return self.fill(text)

    def fill(self, text: str) -> str:
        """``text`` with its variables replaced. Raises :class:`UndeterminedError`."""
        parts = compile_text(text)
        if len(parts) == 1 and isinstance(parts[0], str):
            return parts[0]
        return joined(part if isinstance(part, str) else self.value(part[0]) for part in parts)


_EMBEDDED: Final[Mapping[str, Callable[[Exchange], str | None]]] = {
    "args": lambda request: request.args,
    "content_length": lambda request: request.headers.get("content-length", ""),
    "content_type": lambda request: request.headers.get("content-type", ""),
    "document_root": lambda request: request.root,
    "document_uri": lambda request: request.uri,
    "host": lambda request: request.host or request.server_name,
    "http_host": lambda request: request.host_header,
    "https": lambda request: "on" if request.scheme == "https" else "",
    "is_args": lambda request: "?" if request.args else "",
    "query_string": lambda request: request.args,
    "realip_remote_addr": lambda request: request.peer,
    "remote_addr": lambda request: request.source,
    "remote_user": lambda request: _user_of(request),
    "request": lambda request: f"{request.method} {request.request_uri} HTTP/1.1",
    "request_filename": lambda request: request.filename,
    "request_method": lambda request: request.method,
    "request_uri": lambda request: request.request_uri,
    "scheme": lambda request: request.scheme,
    "sent_http_content_type": lambda request: request.content_type,
    "server_name": lambda request: request.server_name,
    "server_port": lambda request: "" if request.port is None else str(request.port),
    "server_protocol": lambda request: "HTTP/1.1",
    "ssl_client_verify": lambda request: _client_check(request),
    "ssl_client_s_dn": lambda request: _of_client(request, lambda one: one.subject),
    "ssl_client_i_dn": lambda request: _of_client(request, lambda one: one.issuer),
    "ssl_client_serial": lambda request: _of_client(request, lambda one: one.serial),
    "ssl_client_fingerprint": lambda request: _of_client(request, lambda one: one.fingerprint),
    "ssl_server_name": lambda request: request.host if request.scheme == "https" else "",
    "status": lambda request: None if request.status is None else str(request.status),
    "uri": lambda request: request.uri,
}
"""Variables that a request decides, by name; None where only the running server knows (ngx_http_variables.c)."""


def _client_check(request: Exchange) -> str | None:
    """``$ssl_client_verify``; why a certificate failed is said in words of the crypto library's."""
    verdict = request.client[0]
    known = verdict if request.scheme == "https" else ""
    return None if request.is_sample or verdict not in (NONE, SUCCESS) else known


def _of_client(request: Exchange, part: Callable[[ClientCertificate], str]) -> str | None:
    """Something of the client's certificate; empty without one."""
    certificate = request.client[1]
    return None if request.is_sample else "" if certificate is None else part(certificate)


def _user_of(request: Exchange) -> str | None:
    """The name in the credentials that a request carries."""
    is_sent = request.is_sample or "authorization" in request.headers
    return request.account or (None if is_sent else "")


def by_address(source: str, table: Table) -> str | None:
    """The value of the smallest network or range of a ``geo`` table that contains ``source``; None for the default
    (ngx_http_geo_module). Raises :class:`UndeterminedError` for an entry that is not read."""
    address = parse_address(source)
    smallest: int | None = None
    found = None
    for word, _, value in table.patterns:
        bounds_of_word = _first_and_last(word)
        if bounds_of_word is None:
            raise UndeterminedError(f"the entry {quoted(word)} of a geo table is not one that Rupex reads")
        first, last = bounds_of_word
        if address is None or address.version != first.version or not int(first) <= int(address) <= int(last):
            continue
        size = int(last) - int(first)
        if smallest is None or size <= smallest:
            smallest, found = size, value
    return found


def _first_and_last(word: str) -> tuple[Address, Address] | None:
    """The ends of a network, or of a range that is written with a dash; None for anything else."""
    first, mark, last = word.partition("-")
    if mark:
        start, end = parse_address(first), parse_address(last)
        return None if start is None or end is None or start.version != end.version else (start, end)
    network = parse_network(word)
    return None if network is None else (network.network_address, network.broadcast_address)


_SHARE = re.compile(r"([0-9]{1,3})(?:\.([0-9]{1,2}))?%")


def by_hash(source: str, table: Table) -> str | None:
    """The value of a ``split_clients`` table: the shares follow each other over all hashes (ngx_http_split_clients_module).
    Raises :class:`UndeterminedError` for a share that cannot be read."""
    number = _murmur(source.encode("utf-8", "surrogateescape"))
    total = 0
    for word, _, value in table.patterns:
        if word == "*":
            return value
        share = _SHARE.fullmatch(word)
        if share is None:
            raise UndeterminedError(f"{quoted(word)} is not a share of a split_clients table that Rupex reads")
        total += int(share[1]) * 100 + int((share[2] or "").ljust(2, "0"))  # in hundredths of a percent
        if number < total * 0xFFFFFFFF // 10000:
            return value
    return ""


def _murmur(data: bytes) -> int:
    """MurmurHash2 of 32 bits with the seed 0 (ngx_murmur_hash2)."""
    multiplier, mask = 0x5BD1E995, 0xFFFFFFFF
    number = len(data)
    whole = len(data) // 4 * 4
    for at in range(0, whole, 4):
        word = int.from_bytes(data[at : at + 4], "little") * multiplier & mask
        word = (word ^ word >> 24) * multiplier & mask
        number = (number * multiplier & mask) ^ word
    if whole < len(data):
        number = (number ^ int.from_bytes(data[whole:], "little")) * multiplier & mask
    number = (number ^ number >> 13) * multiplier & mask
    return number ^ number >> 15


def _by_host_name(name: str, entries: Mapping[str, str]) -> str | None:
    """Wildcards in front, the longest first, then those behind (ngx_http_core_module, "server_name")."""
    labels = name.split(".")
    for cut in range(len(labels)):
        rest = ".".join(labels[cut:])
        if f".{rest}" in entries:
            return entries[f".{rest}"]
        if cut and f"*.{rest}" in entries:
            return entries[f"*.{rest}"]
    for cut in range(len(labels) - 1, 0, -1):
        front = ".".join(labels[:cut]) + ".*"
        if front in entries:
            return entries[front]
    return None


def first_told(
    text: str, chain: tuple[Block, ...], known: Callable[[str], str | None], seen: tuple[str, ...] = ()
) -> str | None:
    """What ``known`` says of the first variable in ``text`` of which it says something, or of those that it is set to in
    ``chain``. ``seen``: variables that are followed already."""
    for name in dict.fromkeys(names_in(text)):
        found = known(name)
        if found is not None:
            return found
        if name in seen or len(seen) > _DEEPEST_SET:
            continue
        for setting in (setting for block in chain for setting in block.all("set")):
            spend(1)
            if len(setting.args) == 2 and setting.args[0] == f"${name}":
                inner = first_told(setting.args[1], chain, known, (*seen, name))
                if inner is not None:
                    return f"${name}, which is {inner}"
    return None


def is_constant(text: str) -> bool:
    """Whether ``text`` holds no variable."""
    return "$" not in text or all(isinstance(part, str) for part in compile_text(text))


def escape_arguments(text: str) -> str:
    """A capture as a redirect by ``rewrite`` writes it (ngx_escape_uri, NGX_ESCAPE_ARGS): space, ``#``, ``%``, ``&``,
    ``+``, ``?`` and what is not printable ASCII."""
    return quote(text, safe="!\"$'()*,-./:;<=>@[\\]^_`{|}~", errors="surrogateescape")


def escape_path(text: str) -> str:
    """A path as the redirect to a folder writes it (NGX_ESCAPE_URI): what is not printable ASCII, space, ``#``, ``%``, ``?``."""
    return quote(text, safe="!\"$&'()*+,-./:;<=>@[\\]^_`{|}~", errors="surrogateescape")


_PERCENT = re.compile("%([0-9A-Fa-f]{2})")


def unescape_redirect(text: str) -> str:
    """ngx_unescape_uri with NGX_UNESCAPE_REDIRECT: up to the first ``?``, what is printable is decoded again."""

    def decoded(match: re.Match[str]) -> str:
        code = int(match[1], 16)
        return chr(code) if 0x25 < code < 0x7F else match[0]

    path, mark, rest = text.partition("?")
    return _PERCENT.sub(decoded, path) + mark + rest
