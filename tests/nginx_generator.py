"""Random nginx configurations with the requests to ask of them, for comparing predictions with the real server.

Each is a legal configuration of a server ``a.test`` with locations of all kinds, and often some servers beside it. The
words are few, so that rules meet each other often.
"""

from __future__ import annotations

import random
from collections.abc import Sequence

PATHS = (
    "/ /page.html /folder /folder/ /files/a.txt /none /a /a/b /a/b/ /style.css /x.php /index.html /404.html /deep/x"
    " /a/b/c.png /folder/index.html /A /files/ //a//b /a/../files/a.txt /a%2Fb /a%20b /files/a.txt?sum=x /.css /a/./b"
).split()
METHODS = ("POST", "HEAD", "PUT", "DELETE", "OPTIONS")
NAMES = ("a.test",) * 7 + ("www.a.test", "x.b.test", "b.test", "b.example", "c9.test", "A.TEST")
OTHER_NAMES = ("*.a.test", ".b.test", "b.*", r"~^(?<sub>.+)\.b\.test$", "www.a.test", "~^c", '""')
VALUES = ("plain", '"q v"', "$host", "$uri", "$arg_x", "x$v", "$m", '""', "$1y", "$near", "$part", "$told",
          "$remote_addr", "$sent_http_content_type", "$realip_remote_addr", '"<$secure_link>"',
          "$query_string$is_args", "$remote_user")  # fmt: skip
SOURCES = (" from 127.0.0.1", " from 127.0.0.9", " from 127.0.7.1")
ACCOUNTS = ("", "", "", " as aino", " as stranger")
SENT = (
    "",
    "",
    " X-Real-IP: 127.0.0.9",
    " X-Forwarded-For: 192.0.2.7,127.0.0.9",
    " X-Forwarded-For: 127.0.0.1",
    " Referer: pier",
)
TABLES = """map $arg_x $m { default zero; 1 one; ~^p(.) "p$1"; }
geo $near { default far; 127.0.0.0/8 near; 127.0.0.0/24 nearer; 127.0.0.9 nearest; 192.0.2.0/24 away; }
split_clients "$remote_addr$arg_x" $part { 30% one; 30% two; * three; }
map $sent_http_content_type $told { default other; text/html page; ~css style; text/plain text; }
map $sent_http_content_type $kept { default off; text/html epoch; ~^text/ 1h; image/gif max; ~json pier; }
map $near$m $realm { default off; ~^nearest Bridge; ~one "Deck two"; }
map $near $sent_to { default http://far.test; nearest /a/b; }
"""
TARGETS = (
    "https://b.test/ https://b.test$request_uri /a/b /folder/ https://$host$uri http://b.test/?q=$arg_x /x?y=1"
    " $scheme://b.test/z"
).split()
CONDITIONS = (
    "$arg_x", "$arg_x = 1", "$arg_x != 1", "$uri ~ /a", "$uri ~* ^/A$", "$request_method = POST", "$host = a.test",
    "$v", "$m = one", "-f $request_filename", "!-e $request_filename", '$uri ~ "^/(.)(.*)$"',
    "$near = nearest", "$remote_addr ~ 9$", "$part != one", '$secure_link = ""', "$http_referer = pier",
    "$args", "-d $request_filename",
)  # fmt: skip
PATTERNS = (r"~ \.html$", r"~ \.php$", "~* ^/A", "~ ^/a/(.*)$", '~ "/(?<w>b)"', r"~ \.(css|png)$")
ONCE = frozenset(
    "try_files expires autoindex internal absolute_redirect port_in_redirect server_name_in_redirect index server_tokens"
    " recursive_error_pages root alias auth_basic satisfy limit_except default_type real_ip_header real_ip_recursive secure_link"
    " secure_link_md5 gzip_static merge_slashes types auth_basic_user_file".split()
)


class Generator:
    """Makes one configuration after another from a seed."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)

    def case(self) -> str:
        """The text of a case: requests in comments, then the servers."""
        pick = self.chance.choice
        asks = "".join(
            f"# ask: {method}http://{pick(NAMES)}{path}{query if '?' not in path else ''}"
            f"{pick(SENT)}{pick(ACCOUNTS)}{pick(SOURCES)}\n"
            for path in self.chance.sample(PATHS, 8)
            for method, query in [pick((("", ""), ("", "?x=1"), ("", "?x=pq&y=2"), (f"{pick(METHODS)} ", "")))]
        )
        locations: dict[str, str] = {}
        for _ in range(self.chance.randint(1, 6)):
            text = self._location(0)
            locations[text.split("{")[0].replace("^~ ", "").strip()] = text
        if self.chance.random() < 0.5:
            locations["location /"] = f"location / {{ {' '.join(self._directives())} }}"
        named = [d for d in self._directives() if not d.startswith(("internal", "try_files", "alias"))]
        servers = [
            self._server("a.test", ["root /srv/site;", *self._directives(is_server=True), *locations.values(),
                                    f"location @n {{ {' '.join(named)} }}"])
        ]  # fmt: skip
        for number, name in enumerate(self.chance.sample(OTHER_NAMES, self.chance.randint(0, 4))):
            end = f"return 301 http://hit.test/{number}$request_uri;"
            servers.append(self._server(name, [*self._directives(is_server=True), end]))
        servers.append(self._server("z.test", ["set $v z;", "return 204;"]))  # so that $v is a variable at all
        outer = self._header() + "\n" if self.chance.random() < 0.4 else ""
        return asks + TABLES + outer + "\n".join(servers) + "\n"

    @staticmethod
    def _server(name: str, lines: Sequence[str]) -> str:
        body = "\n    ".join(("listen 127.0.0.1:@plain@;", f"server_name {name};", *lines))
        return f"server {{\n    {body}\n}}"

    def _header(self) -> str:
        pick = self.chance.choice
        return f"add_header {pick(('X-A', 'X-B', 'X-C', 'Cache-Control'))} {pick(VALUES)}{pick((' always', '', ''))};"

    def _return(self) -> str:
        pick = self.chance.choice
        return pick(
            (f"return {pick((200, 204, 404, 403, 410, 500, 418))};", f"return {pick((301, 302, 303, 307, 308))} {pick(TARGETS)};",
             'return 200 "t";', 'return 404 "t";', "return 444;", "return https://c.test/;", "return 302 $sent_to;")
        )  # fmt: skip

    def _rewrite(self) -> str:
        pattern = self.chance.choice(("^/a/(.*)$", "^/(.*)$", "/b", "^/none$", r"(.+)\.php$", "^/folder"))
        target = self.chance.choice(
            ("/files/$1", "/$1?z=1", "/page.html", "/c/$1?", "https://b.test/$1", "/404.html", "/deep/x")
        )
        return f"rewrite {pattern} {target} {self.chance.choice(('last', 'break', 'redirect', 'permanent', ''))};"

    def _if(self, is_server: bool) -> str:
        kinds = [self._return(), self._rewrite(), "set $v i;", "break;", *([] if is_server else [self._header()])]
        body = " ".join(self.chance.choice(kinds) for _ in range(self.chance.randint(1, 2)))
        return f"if ({self.chance.choice(CONDITIONS)}) {{ {body} }}"

    def _error_page(self) -> str:
        pick = self.chance.choice
        target = pick(("/404.html", "/a/b", "@n", "https://b.test/err", "/none2"))
        status = pick(("404", "403", "404 403", "410", "500", "405", "401", "418 404"))
        return f"error_page {status} {pick(('', '=200 ', '= ', '=301 '))}{target};"

    def _directives(self, *, is_server: bool = False) -> list[str]:
        pick = self.chance.choice
        found: list[str] = []
        for _ in range(self.chance.randint(0, 3)):
            kinds = [self._header(), self._header(), self._header(), self._return(), self._rewrite(), self._if(is_server),
                     self._if(is_server), self._error_page(), self._error_page(), "set $v s;", "deny all;", "allow all;",
                     'auth_basic "x"; auth_basic_user_file /etc/nginx/users;', "auth_basic off;", "satisfy any;",
                     pick(("expires 1h;", "expires -1;", "expires off;", "expires max;", "expires epoch;", "expires $kept;")),
                     pick(("deny 127.0.0.9;", "allow 127.0.0.0/24;", "allow 127.0.0.1;", "deny 127.0.0.0/16;")),
                     pick(("deny 192.0.2.0/24;", "deny 2001:db8::/32;")),
                     pick(("deny 127.0.0.9; allow all;", "allow 127.0.0.9; deny all;", "allow 127.0.0.0/24; deny all;")),
                     pick(("auth_basic $realm; auth_basic_user_file /etc/nginx/users;", "auth_basic $realm;", "auth_basic y;")),
                     pick(("default_type text/css;", "default_type image/gif;", "types { text/css txt html; }", "types { }")),
                     f"set_real_ip_from {pick(('127.0.0.1', '127.0.0.0/24', '127.0.0.0/8'))};",
                     pick(("real_ip_header X-Forwarded-For;", "real_ip_header X-Real-IP;", "real_ip_recursive on;")),
                     pick(("secure_link $arg_sum;", "secure_link $arg_sum; secure_link_md5 $uri;", "gzip_static on;")),
                     "recursive_error_pages on;", "autoindex on;", "server_tokens off;",
                     pick(("absolute_redirect off;", "port_in_redirect off;", "server_name_in_redirect on;")),
                     "index page.html nothing.html;",
                     pick(('more_set_headers "X-M: $uri";', 'more_set_headers -s 404 "X-N: y";',
                           "more_clear_headers Server;", 'more_set_headers "Server: z" "X-A: more";'))]  # fmt: skip
            if not is_server:
                files = pick(("$uri =404", "$uri $uri/ =410", "$uri /page.html", "$uri @n", "/none $uri/ /a/b?k=1"))
                kinds += [f"try_files {files};", "internal;", "root /srv/site/folder;", "alias /srv/site/files/;",
                          f"limit_except {pick(('GET', 'POST'))} {{ deny all; }}"]  # fmt: skip
            chosen = pick(kinds)
            name = chosen.split()[0].rstrip(";")
            words = {word.split()[0] for word in chosen.split(";") if word.strip()}
            if any(words & {word.split()[0] for word in other.split(";") if word.strip()} & ONCE for other in found):
                continue
            if name in ONCE and any(other.split()[0].rstrip(";") == name for other in found):
                continue
            if name in ("root", "alias") and any(other.startswith(("root ", "alias ")) for other in found):
                continue
            found.append(chosen)
        return found

    def _location(self, depth: int, above: str = "") -> str:
        pick, kind = self.chance.choice, self.chance.random()
        path = ""
        if kind < 0.45:
            outer = ("/a", "/a/", "/a/b", "/files/", "/folder/", "/deep/", "/none", "/x")
            path = above + pick(("b", "b/", "/c", "x") if above else outer)
            head = f"location {pick(('', '^~ '))}{path}"
        elif kind < 0.6 and not above:
            head = f"location = {pick(('/a', '/page.html', '/404.html', '/folder', '/', '/none'))}"
        else:
            head = f"location {pick(PATTERNS)}"
        inner = ""
        if path and depth < 2 and self.chance.random() < 0.3:
            inner = " ".join(sorted({self._location(depth + 1, path) for _ in range(self.chance.randint(1, 2))}))
        return f"{head} {{ {' '.join(self._directives())} {inner}}}"
