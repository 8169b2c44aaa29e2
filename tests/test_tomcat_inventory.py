"""The table of Tomcat's attributes and components, held against the classes of Tomcat 10 and 9; and what one that is not modelled
makes unknown."""

from __future__ import annotations

import subprocess
import unittest
from functools import cache
from pathlib import Path
from typing import Final

from rupex.servers.common.inventory import EFFECTS
from rupex.servers.contract import Answer, Request
from rupex.servers.tomcat.inventory import component, directives
from tests.oracle import _binary
from tests.support import InventoryRows, TreeTest
from tests.tomcat_oracle import jars_of

_PROGRAM = Path(__file__).parent / "java/Setters.java"
_KINDS: Final = {
    "Valve": "Valve",
    "Filter": "Filter",
    "Realm": "Realm",
    "LifecycleListener": "Listener",
    "Manager": "Manager",
    "Store": "Store",
    "CookieProcessor": "CookieProcessor",
    "CredentialHandler": "CredentialHandler",
    "SessionIdGenerator": "SessionIdGenerator",
    "WebResourceRoot": "Resources",
}
"""Interfaces, and the element that an object of such a class is written as."""
_BUILT_IN: Final = ("Standard", "MapperListener", "ContextConfig", "EngineConfig", "HostConfig")
"""How classes begin that Tomcat uses by itself: nobody writes them."""
_ELEMENTS: Final = {
    "Server": ("core.StandardServer",),
    "Service": ("core.StandardService",),
    "Engine": ("core.StandardEngine",),
    "Host": ("core.StandardHost", "startup.HostConfig"),
    "Context": ("core.StandardContext",),
    "Connector": (
        "catalina.connector.Connector",
        *(f"http11.Http11{kind}Protocol" for kind in ("Nio", "Nio2", "Apr")),
        *(f"ajp.Ajp{kind}Protocol" for kind in ("Nio", "Nio2", "Apr")),
        *(f"net.{kind}Endpoint" for kind in ("Nio", "Nio2", "Apr")),
    ),
    "SSLHostConfig": ("net.SSLHostConfig",),
    "Certificate": ("net.SSLHostConfigCertificate",),
    "RemoteAddrValve": ("valves.RemoteAddrValve", "valves.RemoteHostValve", "valves.RemoteCIDRValve"),
    "RemoteAddrFilter": ("filters.RemoteAddrFilter", "filters.RemoteHostFilter", "filters.RemoteCIDRFilter"),
    "RemoteIpValve": ("valves.RemoteIpValve",),
    "RemoteIpFilter": ("filters.RemoteIpFilter",),
    "HealthCheckValve": ("valves.HealthCheckValve",),
    "ErrorReportValve": ("valves.ErrorReportValve",),
    "RewriteValve": ("rewrite.RewriteValve",),
    "HttpHeaderSecurityFilter": ("filters.HttpHeaderSecurityFilter",),
    "UpgradeProtocol.Http2Protocol": ("http2.Http2Protocol",),
}
"""Rows of the table, and the ends of the names of the classes that take their attributes."""


@cache
def classes(major: int) -> dict[str, tuple[frozenset[str], frozenset[str]]]:
    """Of each class of Tomcat by its name: all that it is, and what its setters set, lower case."""
    jars = jars_of(major)
    command = [_binary("java"), "-XX:TieredStopAtLevel=1", "-cp", ":".join(jars), str(_PROGRAM), *jars]
    said = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    lines = (line.split("\t") for line in said.splitlines())
    return {name: (frozenset(kinds.split()), frozenset(setters.lower().split())) for name, kinds, setters in lines}


class InventoryTest(InventoryRows):
    def test_the_table_has_what_the_classes_take(self) -> None:
        lowered = {(place, word.lower()) for place, word in directives()}
        for major in (10, 9):
            found = classes(major)
            self.assertGreater(len(found), 250)
            for place, ends in _ELEMENTS.items():
                named = [name for name in found if name.endswith(tuple(f".{end}" for end in ends))]
                self.assertTrue(named or major == 9, place)
                for name in named:
                    for setter in sorted(found[name][1]):
                        with self.subTest(f"{place} {setter}", tomcat=major, by=name):
                            self.assertIn((place, setter), lowered, "the table lacks it")

    def test_the_table_has_what_a_configuration_may_name(self) -> None:
        for major in (10, 9):
            for name, (kinds, _) in classes(major).items():
                short = name.rpartition(".")[2]
                for kind in kinds & _KINDS.keys() if not short.startswith(_BUILT_IN) else ():
                    with self.subTest(name, tomcat=major):
                        self.assertIn((_KINDS[kind], short), directives(), "the table lacks it")

    def test_every_row_says_what_it_is_about(self) -> None:
        self.assert_rows_say_what_they_are_about(directives())

    def test_a_class_that_is_not_tomcats_own_may_change_anything(self) -> None:
        self.assertEqual(component("Valve", "test.ternholm.PierValve").effects, EFFECTS)
        self.assertEqual(component("Valve", "org.apache.catalina.valves.AccessLogValve").kind, "inert")


class UnmodelledTest(TreeTest):
    """An application with something that is not modelled: exactly what that can change is unknown."""

    def site(self, *, host: str = "", context: str = "", web: str = "", attributes: str = "") -> None:
        connector = (
            '<Connector port="8443" SSLEnabled="true"><SSLHostConfig certificateKeystoreFile="a.p12"/></Connector>'
        )
        inside = f'<Host name="a.test" appBase="webapps" {attributes}>{host}</Host>'
        engine = f'<Engine name="Catalina" defaultHost="a.test">{inside}</Engine>'
        self.write(
            {
                "opt/tomcat/conf/server.xml": f"<Server><Service>{connector}{engine}</Service></Server>",
                "opt/tomcat/conf/web.xml": "<web-app/>",
                "opt/tomcat/webapps/ROOT/page.html": "pier\n",
                "opt/tomcat/webapps/ROOT/META-INF/context.xml": context or "<Context/>",
                "opt/tomcat/webapps/ROOT/WEB-INF/web.xml": f"<web-app>{web}</web-app>",
            }
        )

    def answer(self, path: str = "/page.html", **site: str) -> Answer:
        self.site(**site)
        request = Request(scheme="https", name="a.test", port=8443, path=path)
        answer = self.gather(tomcat="10.1.34").configurations[0].answer(request)
        assert answer is not None
        return answer

    def verdict(self, control: str, **site: str) -> str:
        self.site(**site)
        return self.check(control, tomcat="10.1.34").verdict

    def test_valves(self) -> None:
        self.assertEqual(self.answer().status, 200)
        own = '<Valve className="test.ternholm.PierValve"/>'
        for site in ({"host": own}, {"context": f"<Context>{own}</Context>"}):
            self.assertIn("PierValve", self.answer(**site).unknown or "")
        logs = '<Valve className="org.apache.catalina.valves.AccessLogValve" prefix="a"/>'
        self.assertIsNone(self.answer(host=logs).unknown)

    def test_an_address_pattern_that_cannot_be_read(self) -> None:
        for pattern in ("(", "*", "[z-a]"):
            valve = f'<Valve className="org.apache.catalina.valves.RemoteAddrValve" allow="{pattern}"/>'
            self.assertIn("is not one that Rupex can read", self.answer(host=valve).unknown or "")
            scopes = [scope for endpoint in self.gather(tomcat="10.1.34").host.endpoints for scope in endpoint.scopes]
            self.assertEqual([scope.closed is not None and scope.closed.is_known for scope in scopes], [False])

    def test_filters(self) -> None:
        text = (
            "<filter><filter-name>f</filter-name><filter-class>{}</filter-class></filter>"
            "<filter-mapping><filter-name>f</filter-name><url-pattern>{}</url-pattern></filter-mapping>"
        )
        own = self.answer(web=text.format("test.ternholm.PierFilter", "/*"))
        self.assertIn("PierFilter", own.unknown or "")
        self.assertIn("X-Frame-Options", [header.name for header in own.uncertain])
        self.assertIsNone(self.answer(web=text.format("test.ternholm.PierFilter", "/deck/*")).unknown)
        tokens = self.answer(web=text.format("org.apache.catalina.filters.RestCsrfPreventionFilter", "/*"))
        self.assertIn("RestCsrfPreventionFilter", tokens.unknown or "")
        self.assertEqual(self.verdict("header.framing"), "fail")
        self.assertEqual(self.verdict("header.framing", web=text.format("test.ternholm.PierFilter", "/*")), "unknown")

    def test_what_logs_in_through_a_form(self) -> None:
        web = "<login-config><auth-method>{}</auth-method></login-config>"
        self.assertIn("name and password", self.answer("/deck/j_security_check", web=web.format("FORM")).unknown or "")
        self.assertEqual(self.answer("/deck/j_security_check", web=web.format("BASIC")).status, 404)

    def test_attributes(self) -> None:
        self.assertIn("legacyAppBase", self.answer(attributes='legacyAppBase="old"').unknown or "")
        self.assertEqual(self.answer(attributes='deployXML="false"').status, 404)
        self.assertIsNone(self.answer(attributes='deployXML="true" unpackWARs="false"').unknown)
        self.assertIsNone(self.answer(context='<Context useRelativeRedirects="false"/>').unknown)
        self.assertIn("altDDName", self.answer(context='<Context altDDName="other.xml"/>').unknown or "")


if __name__ == "__main__":
    unittest.main()
