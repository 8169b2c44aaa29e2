"""Random httpd configurations, small enough to read, of the directives that decide an answer and its headers."""

from __future__ import annotations

from random import Random

PATHS = (
    "/page.html",
    "/folder",
    "/folder/",
    "/folder/index.html",
    "/files/a.txt",
    "/missing",
    "/files/",
    "/folder/none",
    "/page.html/x",
)
PREFIXES = ("/folder", "/files", "/page.html", "/fol", "/folder/", "/", "/missing")
FOLDERS = ("/srv/site", "/srv/site/folder", "/srv/site/files", "/srv/", "/srv/site/*", "/srv/site/f*")
PATTERNS = ("^/folder", r"\.html$", "^/(.*)$", "/files/(.+)", "^/page", "none$", "^/f([a-z]+)")
CONDITIONS = (
    *("", ""),
    "RewriteCond %{HTTP_HOST} ^a\n",
    "RewriteCond %{QUERY_STRING} ^x=1$\n",
    "RewriteCond %{REQUEST_URI} !^/f [OR]\nRewriteCond %{QUERY_STRING} .\n",
    "RewriteCond %{DOCUMENT_ROOT}%{REQUEST_FILENAME} !-f\n",
)
FILES = (
    "Alias /folder /srv/site/files",
    "Alias /files/ /srv/site/folder/",
    "AliasMatch ^/(m.*)$ /srv/site/files/$1",
    "DirectoryIndex page.html index.html",
    "DirectoryIndex none.html /404.html",
    "DirectoryIndex disabled",
    "DirectorySlash Off",
    "FallbackResource /page.html",
    "AcceptPathInfo On",
    "AcceptPathInfo Off",
    "Options -FollowSymLinks",
    "Options SymLinksIfOwnerMatch",
)
NAMES = ("X-One", "X-Two", "X-Three")
VARIABLES = ("one", "two", "rule", "REDIRECT_one", "REDIRECT_rule", "HTTPS", "MATCH_PART")
SETTINGS = (
    "SetEnv one 1",
    "SetEnv two 2",
    "UnsetEnv one",
    'SetEnvIf Request_URI "^/f" one=1',
    'SetEnvIf Request_URI "^/(p.*)$" two=$1',
    "SetEnvIfNoCase Request_URI HTML two",
    "SetEnvIfExpr \"%{QUERY_STRING} == 'x=1'\" one=q",
    "SetEnvIf Host . !two",
)
EXPRESSIONS = (
    "%{QUERY_STRING} == 'x=1'",
    "%{REQUEST_URI} =~ /html/",
    "%{HTTP_HOST} =~ /^b/",
    "%{REQUEST_URI} -strmatch '/f*'",
    "%{REQUEST_URI} -fnmatch '/*'",
    "%{REQUEST_METHOD} in { 'GET', 'POST' } && -n %{QUERY_STRING}",
    "tolower(%{HTTP_HOST}) =~ m#^a# || -n osenv('PATH')",
    "! %{REQUEST_URI} =~ /folder/",
    "reqenv('one') == '1'",
    "%{REQUEST_URI}.'x' == '/page.htmlx'",
)
OF_SERVER = (
    "UseCanonicalName On",
    "UseCanonicalName Off",
    "RewriteOptions Inherit",
    "RewriteOptions InheritBefore",
    "RewriteEngine On",
    "RedirectRelative On",
    "MergeSlashes On",
)
OF_PLACE = (
    "AuthMerging And",
    "AuthMerging Or",
    "Require method GET",
    "Require env one",
    "Require env two",
    "Require all denied",
    "Require all granted",
    "<RequireAll>\nRequire all granted\n<RequireNone>\nRequire env one\n</RequireNone>\n</RequireAll>",
    "<RequireAll>\nRequire all granted\nRequire not env two\n</RequireAll>",
    "AllowMethods GET",
    "AllowMethods reset",
    "DirectoryIndexRedirect on",
    "RedirectRelative On",
    "RewriteOptions Inherit",
    "RewriteOptions InheritBefore",
)


class Generator:
    def __init__(self, seed: int) -> None:
        self.chance = Random(seed)

    def case(self) -> str:
        """A configuration, and what to ask of it."""
        chance = self.chance
        method = chance.choice(("", "", "", "POST ", "HEAD "))
        asks = [
            f"# ask: {method}http://{chance.choice(('a.test', 'b.test', 'c.test'))}{path}{chance.choice(('', '', '?x=1'))}"
            for path in PATHS
        ]
        main = "\n".join(self._directive("server") for _ in range(chance.randint(0, 3)))
        hosts = "\n".join(self.host(name) for name in ("a.test", "b.test"))
        override = chance.choice(("None", "All", "All", "FileInfo", "AuthConfig Indexes", "Limit", ""))
        override = f"AllowOverride {override}\n" if override else ""
        inner = "\\n".join(self._directive("override") for _ in range(chance.randint(0, 2)))
        if chance.random() < 0.3:
            rules = [self._rule().replace("\n", "\\n") for _ in range(chance.randint(1, 2))]
            inner = "\\n".join((inner or "#", "RewriteEngine On", *rules))
        return "\n".join((
            "# modules: headers rewrite autoindex setenvif env allowmethods", *asks,
            f"# file srv/site/folder/.htaccess: {inner or '#'}",
            "Listen 127.0.0.1:@plain@", "DocumentRoot /srv/site", main,
            f"<Directory /srv/site>\nRequire all granted\n{override}</Directory>", hosts, "",
        ))  # fmt: skip

    def host(self, name: str) -> str:
        lines = [self._directive("server") for _ in range(self.chance.randint(1, 4))]
        lines += [self.chance.choice((*SETTINGS, *OF_SERVER)) for _ in range(self.chance.randint(0, 2))]
        lines += [self._section() for _ in range(self.chance.randint(1, 4))]
        self.chance.shuffle(lines)
        rules = ""
        if self.chance.random() < 0.5:
            rules = "RewriteEngine On\n" + "\n".join(self._rule() for _ in range(self.chance.randint(1, 3)))
        body = "\n".join(lines)
        return f"<VirtualHost *:@plain@>\nServerName {name}\n{rules}\n{body}\n</VirtualHost>"

    def _section(self) -> str:
        chance = self.chance
        kind = chance.choice(
            ("Location", "Location", "LocationMatch", "Directory", "Files", "FilesMatch", "DirectoryMatch", "If")
        )
        word = {
            "Location": chance.choice(PREFIXES), "LocationMatch": chance.choice(PATTERNS), "Directory": chance.choice(FOLDERS),
            "Files": chance.choice(("*.html", "a.txt", "index.html")), "FilesMatch": chance.choice((r"\.html$", "^a", "x$")),
            "DirectoryMatch": chance.choice(("/folder", "/site/$", "/srv/site/f")),
            "If": chance.choice(EXPRESSIONS),
        }[kind]  # fmt: skip
        lines = "\n".join(self._directive(kind) for _ in range(chance.randint(1, 3)))
        if kind not in ("If", "Files", "FilesMatch") and chance.random() < 0.3:
            lines += f"\n{chance.choice((*SETTINGS, *OF_PLACE))}"
        if kind in ("Location", "Directory") and chance.random() < 0.15:
            lines += f"\nRewriteEngine On\n{self._rule()}"
        return f'<{kind} "{word}">\n{lines}\n</{kind}>'

    def _directive(self, where: str) -> str:
        chance = self.chance
        roll = chance.random()
        if roll < 0.6 or where == "If":
            return self._header()
        if roll < 0.75 and where in ("Location", "LocationMatch", "Directory", "Files", "FilesMatch"):
            return chance.choice(("Require all denied", "Require all granted"))
        if roll < 0.85 and where in ("server", "Directory", "override"):
            return self._redirect()
        if roll < 0.9 and where in ("Directory", "server"):
            return chance.choice(
                ("Options +Indexes", "Options -Indexes", "Options None", "Options Indexes FollowSymLinks")
            )
        if roll < 0.92 and where == "server":
            return chance.choice(FILES)
        if roll < 0.95 and where in ("server", "Directory", "Location"):
            return chance.choice(
                ("ErrorDocument 404 /404.html", 'ErrorDocument 403 "closed"', "ErrorDocument 404 /gone.html")
            )
        return self._header()

    def _header(self) -> str:
        chance = self.chance
        table = chance.choice(("", "always ", "onsuccess "))
        name = chance.choice(NAMES)
        verb = chance.choice(("set", "set", "set", "append", "add", "merge", "unset", "setifempty", "edit"))
        value = {"unset": "", "edit": f"{chance.choice('abc')} {chance.choice('xyz')}"}.get(verb, chance.choice("abc"))
        condition = f" env={chance.choice(('', '!'))}{chance.choice(VARIABLES)}" if chance.random() < 0.25 else ""
        if chance.random() < 0.05:
            condition = ' "expr=%{REQUEST_STATUS} -lt 300"'
        return f"Header {table}{verb} {name} {value}{condition}".rstrip()

    def _redirect(self) -> str:
        chance = self.chance
        status = chance.choice(("", "permanent ", "303 ", "gone "))
        target = (
            ""
            if status == "gone "
            else f" {chance.choice(('https://b.test/new', '/elsewhere', 'https://b.test/q?own=1'))}"
        )
        if chance.random() < 0.3:
            return f"RedirectMatch {status}{chance.choice(PATTERNS)}{target}"
        return f"Redirect {status}{chance.choice(PREFIXES[:5])}{target}"

    def _rule(self) -> str:
        chance = self.chance
        condition = chance.choice(CONDITIONS)
        target, flags = chance.choice((
            ("-", "[F]"), ("-", "[G]"), ("https://b.test/r", "[R=301,L]"), ("/page.html", "[L]"), ("/page.html", "[PT]"),
            ("https://b.test/$1", "[R,L]"), ("/moved?own=1", "[R,QSA,L]"), ("-", "[S=1]"), ("/folder/", "[R=302]"), ("-", "[L]"),
            ("-", "[E=rule:1]"), ("/page.html", "[E=rule:1,L]"), ("-", "[E=one:r]"),
        ))  # fmt: skip
        return f"{condition}RewriteRule {chance.choice(PATTERNS)} {target} {flags}"
