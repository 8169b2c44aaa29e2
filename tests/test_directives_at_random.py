"""Configurations of directives, arguments and nesting at random: whatever stands in one, an audit says what it could not read,
and never ends with an exception of its own. ``RUPEX_RANDOM_SECONDS`` makes it longer."""

from __future__ import annotations

import os
import tempfile
import time
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from random import Random
from xml.sax.saxutils import escape, quoteattr

from rupex.audit.assess import Evidence, assess, gather
from rupex.baseline import load_baseline
from rupex.host import open_tree
from rupex.masking.leaves import classes
from rupex.servers.apache.inventory import directives
from rupex.servers.contract import Request
from rupex.servers.tomcat import inventory as tomcat
from tests.support import NOW

SEED = 20261201
SECONDS = float(os.environ.get("RUPEX_RANDOM_SECONDS", "12"))
WORDS = (
    *r"""on off all none always set unset edit On a.test *.a.test / /srv/site /app 80 443 *:80 127.0.0.1:443 301 404 gone
    permanent https://b.test/ ~ ^/(.*)$ (?<n>a) [ ( (a+)+$ {x} {0.__class__} ${X} %{HTTP_HOST} $1 $host %{ENV:x} "" '' \ ! !x -f
    = >= 2.4 env=x env=!x X-A max-age=1 [R,L] [E=x:y,NE] valid-user granted denied ip not Basic TLSv1.2 -ALL HIGH:!aNULL h2
    http://127.0.0.1:1/ é unix:/run/x.sock|fcgi://a -1 ../.. // ? * mod_headers.c headers_module x_module default last break
    Options=Indexes Nonfatal=All %{REQUEST_URI}""".split(),
    "expr=%{REQUEST_URI} =~ m#/#", "'%{REQUEST_URI} == \"/\" && -n osenv(x)'", "\x01", "9" * 30, "a" * 300,
)  # fmt: skip
LOADED = "headers rewrite alias ssl proxy authz_core dir setenvif env mime negotiation allowmethods".split()
OF_TOMCAT = sorted(tomcat.directives())
"""Elements, or classes of valves and filters, and what they take."""
NGINX_BLOCKS = (
    "server",
    "location",
    "if",
    "map",
    "types",
    "geo",
    "split_clients",
    "upstream",
    "limit_except",
    "http",
    "events",
)


class Written:
    """Text of one configuration at random."""

    def __init__(self, chance: Random) -> None:
        self.chance = chance

    def words(self, most: int = 4) -> str:
        return " ".join(self.chance.choice(WORDS) for _ in range(self.chance.randrange(most)))

    def apache(self, depth: int = 0) -> Iterator[str]:
        table = directives()
        plain = [name for name, known in table.items() if not known.is_section and name != "include"]
        plain += [name for name in plain if table[name].kind == "modelled"] * 6
        sections = [name for name, known in table.items() if known.is_section]
        for _ in range(self.chance.randrange(1, 9)):
            if depth < 4 and self.chance.random() < 0.35:
                name = self.chance.choice(sections)
                yield f"<{name} {self.words()}>"
                yield from self.apache(depth + 1)
                yield f"</{name}>"
            else:
                yield f"{self.chance.choice(plain)} {self.words(5)}"

    def nginx(self, depth: int = 0) -> Iterator[str]:
        names = sorted({name for family, name in classes() if family == "nginx"})
        for _ in range(self.chance.randrange(1, 9)):
            if depth < 4 and self.chance.random() < 0.35:
                yield f"{self.chance.choice(NGINX_BLOCKS)} {self.words()} {{"
                yield from self.nginx(depth + 1)
                yield "}"
            else:
                yield f"{self.chance.choice(names)} {self.words(5)};"

    def element(self, kind: str, inside: str = "", **fixed: str) -> str:
        """An element of Tomcat's with attributes that it, or another one, knows, and any text for their values."""
        own = [name for element, name in OF_TOMCAT if element == kind]
        given = {self.chance.choice(own): self.words() for _ in range(self.chance.randrange(5))} if own else {}
        if self.chance.random() < 0.2:
            given[self.chance.choice(OF_TOMCAT)[1]] = self.words()
        text = " ".join(f"{name}={quoteattr(value)}" for name, value in (given | fixed).items())
        return f"<{kind} {text}>{inside}</{kind}>\n"

    def valves(self, kind: str = "Valve") -> str:
        names = [name for element, name in OF_TOMCAT if element == kind and "." not in name]
        package = {"Valve": "valves", "Filter": "filters"}[kind]
        found = ""
        for _ in range(self.chance.randrange(4)):
            name = self.chance.choice(names)
            given = {self.chance.choice(OF_TOMCAT)[1]: self.words() for _ in range(self.chance.randrange(4))}
            if kind == "Valve":
                attributes = "".join(f" {key}={quoteattr(value)}" for key, value in given.items())
                found += f'<Valve className="org.apache.catalina.{package}.{name}"{attributes}/>\n'
            else:
                found += f"<filter><filter-name>f</filter-name><filter-class>org.apache.catalina.{package}.{name}</filter-class>"
                for key, value in given.items():
                    found += f"<init-param><param-name>{key}</param-name><param-value>{escape(value)}</param-value></init-param>"
                found += "</filter><filter-mapping><filter-name>f</filter-name>"
                found += f"<url-pattern>{escape(self.words())}</url-pattern></filter-mapping>"
        return found

    def constraint(self) -> str:
        parts = [f"<url-pattern>{escape(self.words(2))}</url-pattern>", "<http-method>GET</http-method>",
                 f"<http-method-omission>{escape(self.words(2))}</http-method-omission>"]  # fmt: skip
        inner = "".join(self.chance.choice(parts) for _ in range(self.chance.randrange(4)))
        outer = self.chance.choice(("<auth-constraint/>", "<auth-constraint><role-name>*</role-name></auth-constraint>", "",
                                    ("<user-data-constraint><transport-guarantee>CONFIDENTIAL</transport-guarantee>"
                                    "</user-data-constraint>")))  # fmt: skip
        return f"<security-constraint><web-resource-collection>{inner}</web-resource-collection>{outer}</security-constraint>"


def write_tomcat(root: Path, written: Written) -> None:
    secured = written.element("SSLHostConfig", written.element("Certificate")) if written.chance.random() < 0.7 else ""
    connectors = written.element("Connector", port="80") + written.element(
        "Connector", secured, port="443", SSLEnabled="true"
    )
    context = written.element("Context", written.valves(), path=written.words(2))
    host = written.element("Host", context + written.valves(), name="a.test", appBase="apps")
    engine = written.element("Engine", host + written.valves(), defaultHost="a.test")
    service = written.element("Service", connectors + engine, name="c")
    rules = "".join(f"RewriteCond {written.words(4)}\nRewriteRule {written.words(5)}\n" for _ in range(2))
    files = {
        "conf/server.xml": written.element("Server", service, port="8005"),
        "conf/context.xml": written.element("Context", written.valves()),
        "conf/web.xml": f"<web-app>{written.valves('Filter')}</web-app>",
        "apps/app/WEB-INF/web.xml": f"<web-app>{written.valves('Filter')}{written.constraint()}</web-app>",
        "apps/app/META-INF/context.xml": written.element("Context", written.valves()),
        "apps/app/WEB-INF/rewrite.config": rules,
        "apps/app/index.html": "x",
    }
    for name, text in files.items():
        file = root / "opt/tomcat10" / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text.replace("\x01", "") if written.chance.random() < 0.95 else text)


def write_apache(root: Path, written: Written) -> None:
    loads = "".join(f"LoadModule {name}_module x.so\n" for name in LOADED)
    inside = "\n".join(written.apache())
    inside = f"ServerName a.test\nDocumentRoot /srv/site\n{inside}"
    text = f"{loads}Listen 80\nListen 443 https\n<VirtualHost *:80 *:443>\n{inside}\n</VirtualHost>\n"
    (root / "etc/apache2").mkdir(parents=True)
    (root / "etc/apache2/apache2.conf").write_text(text + "\n".join(written.apache()) + "\n")
    (root / "srv/site/app").mkdir(parents=True)
    (root / "srv/site/.htaccess").write_text("\n".join(written.apache(3)) + "\n")
    (root / "srv/site/index.html").write_text("x")


def write_nginx(root: Path, written: Written) -> None:
    inside, outside = "\n".join(written.nginx(1)), "\n".join(written.nginx(1))
    text = f"events {{}}\nhttp {{\nserver {{\nlisten 80;\nserver_name a.test;\nroot /srv/site;\n{inside}\n}}\n{outside}\n}}\n"
    (root / "etc/nginx").mkdir(parents=True)
    (root / "etc/nginx/nginx.conf").write_text(text)
    (root / "srv/site").mkdir(parents=True)
    (root / "srv/site/index.html").write_text("x")


def ask(evidence: Evidence) -> None:
    for configuration in evidence.configurations:
        for scheme, port in (("http", 80), ("https", 443)):
            for path in ("/", "/app/x", "/index.html", "/%2e%2e//a"):
                request = Request(scheme=scheme, name="a.test", port=port, path=path, query="a=b")
                configuration.answer(request)


class RandomDirectivesTest(unittest.TestCase):
    def test_no_configuration_ends_an_audit_with_an_exception(self) -> None:
        chance = Random(SEED)
        until = time.monotonic() + SECONDS
        tried = 0
        while time.monotonic() < until or tried < 40:
            for write in (write_apache, write_nginx, write_tomcat):
                self._try(write, chance.randrange(1 << 40))
            tried += 1

    def _try(self, write: Callable[[Path, Written], None], seed: int) -> None:
        with self.subTest(write.__name__, seed=seed), tempfile.TemporaryDirectory() as scratch:
            root = Path(scratch)
            write(root, Written(Random(seed)))
            evidence = gather(open_tree(root).tree, "", name="random")
            ask(evidence)
            assess(evidence.host, load_baseline("public-web"), NOW, keep_all=True)
