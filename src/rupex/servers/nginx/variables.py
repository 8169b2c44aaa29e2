"""nginx's variables for one request, and the texts that hold them.

Follows ``ngx_http_script_compile`` (src/http/ngx_http_script.c) and ngx_http_core_module, "Embedded Variables". A
variable that only run time knows raises :class:`~rupex.servers.patterns.UndeterminedError`.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from functools import lru_cache
from urllib.parse import quote

from rupex.servers.patterns import UndeterminedError

_VARIABLE = re.compile(r"\$(?:([1-9])|\{([A-Za-z0-9_]+)\}|([A-Za-z0-9_]+))")

# Headers that every client sends in its own way: a configuration that asks for them decides at run time.
CLIENTS_OWN = frozenset(
    {"user-agent", "accept", "accept-encoding", "accept-language", "cookie", "referer", "connection"}
)


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


@dataclass(slots=True)
class Exchange:
    """One request on its way through the server: what was asked, and what became of it so far.

    ``uri`` is decoded and normalised; ``request_uri`` as sent. ``headers``: lower-case names to values; a header that
    is not there was not sent, but for those of :data:`CLIENTS_OWN`, which nobody knows.
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

    def value(self, name: str) -> str:
        """The value of the variable ``name``. Raises :class:`UndeterminedError`."""
        if name.isdigit():
            index = int(name)
            return (self.captures[index] or "") if index < len(self.captures) else ""
        if name in self.variables:
            return self.variables[name]
        if name.startswith("arg_"):
            return self._argument(name[4:])
        if name.startswith("http_") and name != "http_host":
            header = name[5:].replace("_", "-")
            if header in self.headers:
                return self.headers[header]
            if header in CLIENTS_OWN:
                raise UndeterminedError(f"${name} is the client's own")
            return ""
        return self._embedded(name)

    def _embedded(self, name: str) -> str:
        match name:
            case "scheme":
                return self.scheme
            case "host":
                return self.host
            case "http_host":
                return self.host_header
            case "server_name":
                return self.server_name
            case "server_port":
                return "" if self.port is None else str(self.port)
            case "uri" | "document_uri":
                return self.uri
            case "request_uri":
                return self.request_uri
            case "args" | "query_string":
                return self.args
            case "is_args":
                return "?" if self.args else ""
            case "request_method":
                return self.method
            case "https":
                return "on" if self.scheme == "https" else ""
            case "server_protocol":
                return "HTTP/1.1"
            case "status" if self.status is not None:
                return str(self.status)
            case _:
                raise UndeterminedError(f"${name} is known at run time only")

    def _argument(self, name: str) -> str:
        for pair in self.args.split("&"):
            key, _, value = pair.partition("=")
            if key.lower() == name:
                return value
        return ""

    def fill(self, text: str) -> str:
        """``text`` with its variables replaced. Raises :class:`UndeterminedError`."""
        parts = compile_text(text)
        if len(parts) == 1 and isinstance(parts[0], str):
            return parts[0]
        return "".join(part if isinstance(part, str) else self.value(part[0]) for part in parts)


def is_constant(text: str) -> bool:
    """Whether ``text`` holds no variable."""
    return "$" not in text or all(isinstance(part, str) for part in compile_text(text))


def escape_uri(path: str) -> str:
    """A decoded path as nginx writes it into a URI (ngx_escape_uri, NGX_ESCAPE_URI)."""
    return quote(path, safe="/:@!$&'()*+,;=-._~[]|^{}\\<>`\"")
