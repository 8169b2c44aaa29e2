"""Random httpd configurations, small enough to read, of the directives that decide an answer and its headers."""

from __future__ import annotations

import re
from dataclasses import dataclass
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
VARIABLES = ("one", "two", "One", "TWO", "rule", "REDIRECT_one", "REDIRECT_rule", "HTTPS", "MATCH_PART")
SETTINGS = (
    "SetEnv one 1",
    "SetEnv two 2",
    "UnsetEnv one",
    'SetEnvIf Request_URI "^/f" one=1',
    'SetEnvIf Request_URI "^/(p.*)$" two=$1',
    "SetEnvIfNoCase Request_URI HTML two",
    "SetEnvIfExpr \"%{QUERY_STRING} == 'x=1'\" one=q",
    "SetEnvIf Host . !two",
    "SetEnv ONE 3",
    'SetEnvIf Request_URI "^/f" Two=4',
    "SetEnvIf Host . !ONE",
)
EXPRESSIONS = (
    "%{QUERY_STRING} == 'x=1'",
    "%{REQUEST_URI} =~ /html/",
    "%{HTTP_HOST} =~ /^b/",
    "%{REQUEST_URI} -strmatch '/f*'",
    "%{REQUEST_URI} -fnmatch '/*'",
    "%{REQUEST_METHOD} in { 'GET', 'POST' } && -n %{QUERY_STRING}",
    "tolower(%{HTTP_HOST}) =~ m#^a#",
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


@dataclass(frozen=True)
class Theme:
    """Words that belong together; a case is of a few themes.

    ``modules``: what httpd must load for them; ``files``: what the tree must hold beside.
    ``main``: lines of the main server only; ``server``: of the main server and hosts; ``place``: of sections and override files.
    ``paths``, ``headers``, ``sources``, ``methods``, ``accounts``: what requests may have beside the usual.
    """

    modules: str = ""
    files: tuple[str, ...] = ()
    main: tuple[str, ...] = ()
    server: tuple[str, ...] = ()
    place: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    headers: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    methods: tuple[str, ...] = ()
    accounts: tuple[str, ...] = ()


BASIC = "AuthType Basic\nAuthName pier\nAuthUserFile /etc/apache2/users\n"
THEMES: dict[str, Theme] = {
    "visitors": Theme(
        place=(
            "Require ip 127.0.0.2",
            "Require ip 127.0.0.0/31 127.0.0.3",
            "Require local",
            "<RequireAll>\nRequire all granted\nRequire not ip 127.0.0.2\n</RequireAll>",
            "<RequireAny>\nRequire ip 127.0.0.2\nRequire method POST\n</RequireAny>",
            "Require expr %{REQUEST_METHOD} == 'GET' || -R '127.0.0.2'",
        ),
        server=(
            'SetEnvIf Remote_Addr "^127.0.0.2$" one=1',
            "RewriteEngine On\nRewriteCond %{REMOTE_ADDR} =127.0.0.2\nRewriteRule . - [F]",
        ),
        sources=("127.0.0.1", "127.0.0.2", "127.0.0.3"),
    ),
    "old access": Theme(
        "access_compat",
        place=(
            "Order allow,deny",
            "Order deny,allow",
            "Order mutual-failure",
            "Deny from all",
            "Allow from all",
            "Allow from 127.0.0.2",
            "Deny from 127.0.0.2",
            "Allow from 127.0.0.0/31",
            "Allow from env=one",
            "Deny from env=!one",
            "Satisfy Any",
            "Satisfy All",
        ),
        sources=("127.0.0.1", "127.0.0.2"),
    ),
    "methods": Theme(
        "access_compat",
        server=("TraceEnable Off", "TraceEnable On"),
        place=(
            "<Limit POST>\nRequire all denied\n</Limit>",
            "<Limit GET POST>\nRequire all denied\n</Limit>",
            "<LimitExcept GET>\nRequire all denied\n</LimitExcept>",
            "<LimitExcept POST>\nDeny from all\n</LimitExcept>",
            "<Limit OPTIONS>\nRequire all granted\n</Limit>",
            "AllowMethods GET",
            "AllowMethods POST OPTIONS",
        ),
        methods=("OPTIONS ", "PUT ", "DELETE ", "TRACE ", "PATCH "),
    ),
    "users": Theme(
        "auth_basic authn_file authz_user authz_groupfile access_compat",
        files=(
            "# file etc/apache2/users: ada:{SHA}3W9oIQsRfE3CbsHxJAZqk4CnUYc=\\nlotta:{SHA}3W9oIQsRfE3CbsHxJAZqk4CnUYc=",
            "# file etc/apache2/groups: crew: ada",
        ),
        place=(
            f"{BASIC}Require valid-user",
            f"{BASIC}Require user ada",
            f"{BASIC}AuthGroupFile /etc/apache2/groups\nRequire group crew",
            "Satisfy Any",
            "Require valid-user",
            "AuthType None",
            "AuthMerging Or",
            f"{BASIC}<RequireAny>\nRequire valid-user\nRequire ip 127.0.0.2\n</RequireAny>",
            f"<LimitExcept GET>\n{BASIC}Require valid-user\n</LimitExcept>",
            f"{BASIC}Require user lotta",
            "AuthzSendForbiddenOnFailure On",
            f"{BASIC}<RequireAll>\nRequire valid-user\nRequire not user lotta\n</RequireAll>",
            "Require expr %{REMOTE_USER} == 'lotta'",
            "Header always set X-Two %{REMOTE_USER}e",
            'Header always set X-One "expr=%{REMOTE_USER}"',
            "RewriteEngine On\nRewriteCond %{REMOTE_USER} a$\nRewriteRule . - [E=one:%{REMOTE_USER}]",
        ),
        sources=("127.0.0.1", "127.0.0.2"),
        accounts=("ada", "lotta", "stranger"),
    ),
    "views": Theme(
        "negotiation",
        files=("# file srv/site/folder/deck.html: pier", "# file srv/site/folder/deck.html.bak: pier"),
        place=("Options +MultiViews", "Options MultiViews Indexes", "Options -MultiViews", "AcceptPathInfo On"),
        server=("Options +MultiViews", "Options +MultiViews"),
        paths=("/page", "/folder/deck", "/folder/index", "/page/x", "/folder/deck.html", "/files/a"),
        methods=("HEAD ", "POST ", "PUT "),
    ),
    "types": Theme(
        "expires",
        place=(
            "ForceType application/octet-stream",
            "ForceType None",
            "AddType text/plain .html",
            "AddType text/css txt",
            "RemoveType .html",
            "SetHandler default-handler",
            "SetHandler None",
            "AddCharset utf-8 .html",
            "AddDefaultCharset utf-8",
            "AddDefaultCharset Off",
            "AddEncoding x-gzip .txt",
            "AddLanguage de .html",
            "RemoveHandler .html",
            "AddHandler default-handler .txt",
            "FileETag None",
            'Header set X-One "a" "expr=%{CONTENT_TYPE} =~ /html/"',
            'Header set X-Two "%{CONTENT_TYPE}e"',
            "DefaultLanguage de",
            'Header always set X-Three "expr=%{CONTENT_TYPE}"',
            "AddType text/x-b .b",
            "RemoveCharset .html",
            "ExpiresActive On",
            "ExpiresByType text/plain A30",
            "ModMimeUsePathInfo On",
        ),
        paths=("/files/b.css", "/files/noname", "/files/c.b.html", "/files/d.html.b"),
        files=(
            "# file srv/site/files/b.css: body {}",
            "# file srv/site/files/noname: x",
            "# file srv/site/files/c.b.html: x",
            "# file srv/site/files/d.html.b: x",
        ),
    ),
    "errors": Theme(
        main=("ServerTokens Prod", "ServerTokens Major", "RedirectPermanent /fol /main"),
        server=(
            "RedirectPermanent /fol https://b.test/perm",
            "RedirectTemp /files /temp",
            "ServerSignature On",
        ),
        place=(
            "ErrorDocument 404 https://b.test/gone",
            'ErrorDocument 404 "gone"',
            "ErrorDocument 404 default",
            "ErrorDocument 403 /404.html",
            "ErrorDocument 401 /page.html",
            "ErrorDocument 410 /page.html",
            "ErrorDocument 404 /files/",
            "ErrorDocument 405 /page.html",
            "Redirect 410 /files",
            "Redirect 404 /folder",
            "Redirect seeother /page https://b.test/see",
        ),
    ),
    "proxy": Theme(
        "proxy proxy_http proxy_balancer lbmethod_byrequests slotmem_shm",
        server=(
            "ProxyPass /app/ http://127.0.0.1:@upstream@/",
            "ProxyPass /app/none !\nProxyPass /app http://127.0.0.1:@upstream@",
            "ProxyPassMatch ^/ap(.*)$ http://127.0.0.1:@upstream@/$1",
            "ProxyErrorOverride On",
            "<Proxy balancer://pier>\nBalancerMember http://127.0.0.1:@upstream@\n</Proxy>\nProxyPass /bal/ balancer://pier/",
            '<LocationMatch "^/app/f">\nProxyPass "!"\n</LocationMatch>',
            "<Location /app/>\nProxyPass http://127.0.0.1:@upstream@/\n</Location>",
            "RewriteEngine On\nRewriteRule ^/fol(.*)$ http://127.0.0.1:@upstream@/$1 [P]",
            '<Proxy "http://127.0.0.1:@upstream@/*">\nRequire all denied\n</Proxy>',
            '<ProxyMatch "app">\nHeader set X-Two p\n</ProxyMatch>',
            "ProxyRequests Off",
        ),
        paths=("/app/", "/app/folder", "/app/none", "/bal/x", "/app"),
    ),
    "conditions": Theme(
        "macro",
        main=("Define PIER 1", "Define QUAY", "UnDefine PIER", "<Macro mark $v>\nHeader set X-One $v\n</Macro>"),
        server=(
            "<IfDefine PIER>\nHeader set X-One d\n</IfDefine>",
            "<IfDefine !QUAY>\nHeader set X-Two d\n</IfDefine>",
            "<IfModule mod_headers.c>\nHeader set X-One m\n</IfModule>",
            "<IfModule none_module>\nHeader set X-One m\n</IfModule>",
            "<IfModule !mod_none.c>\n<IfModule alias_module>\nRedirect /fol /x\n</IfModule>\n</IfModule>",
            "<IfDirective Header>\nHeader set X-Three i\n</IfDirective>",
            "<IfSection Files>\nHeader append X-Three i\n</IfSection>",
            "<IfVersion >= 2.4>\nHeader set X-Two v\n</IfVersion>",
            "<IfVersion < 2.4.10>\nHeader set X-Two v\n</IfVersion>",
            "<IfFile /srv/site/page.html>\nHeader set X-Two f\n</IfFile>",
        ),
        place=(
            "<IfModule mod_headers.c>\nHeader set X-One m\n</IfModule>",
            "<IfDefine QUAY>\nHeader set X-Two d\n</IfDefine>",
        ),
    ),
    "choices": Theme(
        server=(
            "<If \"%{QUERY_STRING} == 'x=1'\">\nHeader set X-One i\n</If>\n<Else>\nHeader set X-One e\n</Else>",
            (
                '<If "%{REQUEST_URI} =~ /html/">\nHeader set X-Two i\n</If>\n<ElseIf "-n %{QUERY_STRING}">\nHeader set X-Two ei\n'
                "</ElseIf>\n<Else>\nHeader append X-Two e\n</Else>"
            ),
            '<If "%{HTTP_HOST} =~ /a/">\n<If "-n %{QUERY_STRING}">\nHeader set X-Three n\n</If>\nHeader append X-Three o\n</If>',
        ),
        place=(
            "<If \"%{QUERY_STRING} == 'x=1'\">\nRequire all denied\n</If>",
            '<If "%{REQUEST_FILENAME} =~ /html$/">\nHeader set X-One f\n</If>',
            '<If "-f %{REQUEST_FILENAME}">\nHeader set X-Two f\n</If>\n<Else>\nHeader set X-Two n\n</Else>',
            "<If \"%{HTTP:X-Flag} == 'up'\">\nHeader set X-Three u\n</If>",
            "<Files a.txt>\nHeader set X-One f\n</Files>",
            '<FilesMatch "(html|txt)$">\nHeader append X-One g\n</FilesMatch>',
            "<Files *.html>\nRequire all denied\n</Files>",
        ),
        headers=(" X-Flag: up",),
    ),
    "hosts": Theme(
        "userdir vhost_alias",
        files=(
            "# file etc/passwd: www-data:x:33:33::/var/www:/usr/sbin/nologin",
            "# file srv/c.test/page.html: c",
            "# file srv/homes/ada/public/index.html: ada",
        ),
        server=(
            "ServerAlias *.b.test c.test",
            "ServerAlias c.*",
            "VirtualDocumentRoot /srv/%0",
            "UserDir /srv/homes/*/public",
            "UserDir disabled",
            "UserDir public",
            "VirtualScriptAlias /srv/site/%1",
        ),
        paths=("/~ada/", "/~ada", "/~none/x"),
    ),
    "rules": Theme(
        server=(
            "RewriteMap low int:tolower",
            "RewriteOptions AllowNoSlash",
            "RewriteOptions MergeBase",
            "AllowEncodedSlashes On",
            "AllowEncodedSlashes NoDecode",
        ),
        place=(
            (
                "RewriteEngine On\nRewriteBase /folder/\nRewriteRule ^index\\.html$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\n"
                "RewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . index.html [L]"
            ),
            "RewriteEngine On\nRewriteCond %{THE_REQUEST} html\nRewriteRule ^(.*)\\.html$ /$1 [R=301,L]",
            "RewriteEngine On\nRewriteCond %{REQUEST_METHOD} !^(GET|HEAD)$\nRewriteRule .* - [F,L]",
            "RewriteEngine On\nRewriteCond %{HTTP:X-Flag} ^u\nRewriteRule ^ /page.html [END]",
            "RewriteEngine On\nRewriteCond %{HTTPS} !=on\nRewriteRule ^(.*)$ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L,NE]",
            "RewriteEngine On\nRewriteRule (^|/)\\.(?!well-known) - [F]",
            "RewriteEngine On\nRewriteRule ^(.+)/$ /$1 [R=302,L]",
            "RewriteEngine On\nRewriteCond %{REQUEST_URI} ^/([a-z]+)\nRewriteRule ^ - [E=one:%1]",
            "RewriteEngine On\nRewriteRule (.*) - [CO=pier:1:.b.test:60:/:secure:httponly]",
            "RewriteEngine On\nRewriteRule html$ - [T=text/plain]",
            "RewriteEngine On\nRewriteRule ^a - [H=default-handler]",
            "RewriteEngine Off",
            "RewriteEngine On\nRewriteRule none page.html [C]\nRewriteRule html$ - [G]",
            (
                "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^(?:www\\.)?(.+)$ [NC]\n"
                "RewriteRule ^ https://www.%1%{REQUEST_URI} [R=308,L]"
            ),
            "RewriteEngine On\nRewriteCond expr \"%{QUERY_STRING} -strmatch 'x=*'\"\nRewriteRule . - [R=404]",
            "RewriteEngine On\nRewriteCond %{LA-U:REQUEST_FILENAME} html$\nRewriteRule . - [E=two:2]",
            (
                "RewriteEngine On\nRewriteCond %{IS_SUBREQ} false\nRewriteCond %{SERVER_PORT}-%{REQUEST_SCHEME} ^[0-9]+-http$\n"
                "RewriteRule . - [E=two:3]"
            ),
        ),
        headers=(" X-Flag: up",),
        paths=("/folder/a%20b", "/folder/x?y=%2F", "/.hidden", "/folder%2Findex.html"),
    ),
    "clients": Theme(
        server=(
            'BrowserMatch "^quay" one',
            'BrowserMatchNoCase "QUAY/([0-9])" two=$1',
            "PassEnv LC_ALL",
            "SetEnvIf X-Flag (.*) one=$1",
            "RequestHeader set X-Flag down early",
            "RequestHeader set X-Flag down",
            "RequestHeader unset X-Flag",
            "SetEnvIf ^X-F up two",
            'SetEnvIf X-Flag "^$" one=none',
            "SetEnvIfNoCase User-Agent QUAY one=ua",
            "RequestHeader edit X-Flag u d early",
        ),
        place=(
            'Header set X-One "%{one}e"',
            'Header set X-Two "expr=%{reqenv:two}"',
            "Header echo ^X-Flag",
            'Header set X-Three "%{X-Flag}i"',
            "Header note X-One kept",
            "RequestHeader set X-Flag there",
            "Header edit* X-One a b",
            "Header always set X-Two l env=LC_ALL",
        ),
        headers=(" X-Flag: up", " User-Agent: quay/7"),
    ),
    "scripts": Theme(
        "cgid",
        server=("ScriptAlias /bin/ /srv/site/files/", 'ScriptAliasMatch "^/b(.*)$" /srv/site/files/$1'),
        place=("AcceptPathInfo On", "AddHandler cgi-script .pl", "Options +ExecCGI", "LimitRequestBody 1000"),
        paths=("/bin/", "/bin/none", "/bx/none"),
    ),
    "real address": Theme(
        "remoteip",
        server=("RemoteIPHeader X-Real", "RemoteIPInternalProxy 127.0.0.1", "RemoteIPTrustedProxy 127.0.0.2"),
        place=("Require ip 192.0.2.7", "Require ip 127.0.0.2", 'Header set X-One "expr=%{REMOTE_ADDR}"'),
        headers=(" X-Real: 192.0.2.7",),
        sources=("127.0.0.1", "127.0.0.2"),
    ),
    "expiry": Theme(
        "expires",
        server=("ExpiresActive On", "ExpiresDefault A3600", 'ExpiresByType text/html "access plus 1 day"'),
        place=(
            "ExpiresActive On",
            "ExpiresActive Off",
            'ExpiresDefault "access plus 1 hour"',
            "ExpiresByType text/html A0",
            "ExpiresByType text/* A60",
            "Header set Cache-Control private",
            'ExpiresByType text/plain "modification plus 1 year"',
        ),
    ),
    "tls": Theme(
        "ssl socache_shmcb access_compat",
        main=(
            "SSLCertificateFile /etc/ssl/case/rsa.pem\nSSLCertificateKeyFile /etc/ssl/case/rsa.key\nListen 127.0.0.1:@secure@",
        ),
        server=(
            "Header always set X-One tls env=HTTPS",
            "SSLOptions +StdEnvVars",
            "RewriteEngine On\nRewriteCond %{HTTPS} !=on\nRewriteRule ^ https://%{SERVER_NAME}%{REQUEST_URI} [R=301,L]",
            "RewriteEngine On\nRewriteCond %{SERVER_PORT} !^443$\nRewriteRule /fol https://%{HTTP_HOST}/ [R,L]",
            "<If \"%{HTTPS} == 'on'\">\nHeader set X-Two on\n</If>",
            "<If \"%{REQUEST_SCHEME} == 'http'\">\nRedirect permanent / https://b.test/\n</If>",
        ),
        place=(
            "SSLRequireSSL",
            "SSLRequireSSL\nSatisfy Any",
            "SSLOptions +StrictRequire",
            "Satisfy Any",
            "Require ssl",
            "<RequireAny>\nRequire ssl\nRequire method POST\n</RequireAny>",
            'Header set X-Three "%{HTTPS}e"',
            "Require expr %{HTTPS} == 'on'",
        ),
    ),
    "override": Theme(
        main=("AccessFileName .quay .htaccess",),
        files=(
            "# file srv/site/files/.quay: Header set X-Two q",
            "# file srv/site/files/.htaccess: Header set X-Two h",
        ),
        place=("AllowOverrideList Header", "AllowOverride None", "AllowOverride All", "AllowOverride Options=Indexes"),
    ),
}

_PLACES_WITHOUT_FILES = ("Location", "LocationMatch", "Files", "FilesMatch")
NOT_IN = {"main": ("ServerAlias",)} | dict.fromkeys(_PLACES_WITHOUT_FILES, ("<Files",))
"""Words with which the server does not start in a place."""
UNQUOTED = ("Require", "SSLRequire", "Listen")
"""Directives that take quotes for a part of their words, or whose words are one expression."""


class Generator:
    def __init__(self, seed: int) -> None:
        self.chance = Random(seed)
        self.themes: list[Theme] = []

    def case(self) -> str:
        """A configuration, and what to ask of it."""
        chance = self.chance
        self.themes = [THEMES[name] for name in chance.sample(sorted(THEMES), chance.randint(0, 3))]
        main = [self._directive("main") for _ in range(chance.randint(0, 3))]
        main += [chance.choice(theme.main) for theme in self.themes if theme.main]
        hosts = "\n".join(self.host(name) for name in ("a.test", "b.test"))
        if self._has_tls:
            hosts += "\n" + "\n".join(self.host(name, "secure") for name in ("a.test", "b.test"))
        override = chance.choice(("None", "All", "All", "FileInfo", "AuthConfig Indexes", "Limit", ""))
        override = f"AllowOverride {override}\n" if override else ""
        inner = [self._directive("override") for _ in range(chance.randint(0, 2))]
        if chance.random() < 0.3:
            inner += ["RewriteEngine On", *(self._rule() for _ in range(chance.randint(1, 2)))]
        inside = "\n".join(inner or "#").replace("\n", "\\n")
        written = "\n".join((
            " ".join(("# modules: headers rewrite autoindex setenvif env allowmethods", *(t.modules for t in self.themes))),
            *self._asks(), *(file for theme in self.themes for file in theme.files),
            f"# file srv/site/folder/.htaccess: {inside}",
            "Listen 127.0.0.1:@plain@", "DocumentRoot /srv/site", *main,
            f"<Directory /srv/site>\nRequire all granted\n{override}</Directory>", hosts, "",
        ))  # fmt: skip
        return self._quoted(written) if chance.random() < 0.3 else written

    def _quoted(self, written: str) -> str:
        """The same configuration with some words of its lines in quotes."""
        return "\n".join(self._quoted_line(line) for line in written.split("\n"))

    def _quoted_line(self, line: str) -> str:
        name, blank, rest = line.partition(" ")
        if not name.isalpha() or name in UNQUOTED or re.search(r"[\"'\\]", rest):
            return line
        marks = ("", '"', "'")
        return (
            name
            + blank
            + " ".join(f"{mark}{word}{mark}" for word in rest.split() for mark in self.chance.choices(marks))
        )

    def _asks(self) -> list[str]:
        """Each path once, those of the themes too; one method in most cases, headers and visitors now and then."""
        chance = self.chance
        usual = chance.choice(("", "", "", "POST ", "HEAD "))
        methods = [method for theme in self.themes for method in theme.methods]
        headers = [header for theme in self.themes for header in theme.headers]
        sources = [source for theme in self.themes for source in theme.sources]
        accounts = [account for theme in self.themes for account in theme.accounts]
        asks = []
        for path in (*PATHS, *(path for theme in self.themes for path in theme.paths)):
            method = chance.choice(methods) if methods and chance.random() < 0.5 else usual
            name = chance.choice(("a.test", "b.test", "c.test"))
            query = chance.choice(("", "", "?x=1"))
            header = chance.choice(headers) if headers and chance.random() < 0.5 else ""
            source = f" from {chance.choice(sources)}" if sources else ""
            scheme = chance.choice(("http", "https")) if self._has_tls else "http"
            account = f" as {chance.choice(accounts)}" if accounts and chance.random() < 0.7 else ""
            asks.append(f"# ask: {method}{scheme}://{name}{path}{query}{header}{account}{source}")
        return asks

    @property
    def _has_tls(self) -> bool:
        return THEMES["tls"] in self.themes

    def host(self, name: str, port: str = "plain") -> str:
        lines = [self._directive("server") for _ in range(self.chance.randint(1, 4))]
        lines += [self.chance.choice((*SETTINGS, *OF_SERVER)) for _ in range(self.chance.randint(0, 2))]
        lines += [self._section() for _ in range(self.chance.randint(1, 4))]
        self.chance.shuffle(lines)
        rules = ""
        if self.chance.random() < 0.5:
            rules = "RewriteEngine On\n" + "\n".join(self._rule() for _ in range(self.chance.randint(1, 3)))
        body = "\n".join(lines)
        engine = "SSLEngine on\n" if port == "secure" else ""
        return f"<VirtualHost *:@{port}@>\nServerName {name}\n{engine}{rules}\n{body}\n</VirtualHost>"

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
        is_server = where in ("server", "main")
        themed = [line for theme in self.themes for line in (theme.server if is_server else theme.place)]
        themed = [line for line in themed if not any(word in line for word in NOT_IN.get(where, ()))]
        if themed and roll < 0.35:
            return chance.choice(themed)
        where = "server" if where == "main" else where
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
            ("-", "[E=rule:1]"), ("/page.html", "[E=rule:1,L]"), ("-", "[E=one:r]"), ("files/$0", ""), ("/a/$1", "[DPI]"),
        ))  # fmt: skip
        return f"{condition}RewriteRule {chance.choice(PATTERNS)} {target} {flags}"
