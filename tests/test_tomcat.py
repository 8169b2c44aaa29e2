"""What Rupex predicts for a Tomcat, held against what Tomcat 10 and 9 answer; and what the controls make of one."""

from __future__ import annotations

import contextlib
import re
import shutil
import subprocess
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from random import Random
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from rupex.audit.assess import Evidence, gather
from rupex.host import open_tree
from rupex.model import Tls
from rupex.servers.common.patterns import UndeterminedError
from rupex.servers.contract import Answer
from rupex.servers.tomcat.resolve import TomcatConfiguration
from rupex.servers.tomcat.rewrite import Subject, parse_rules, rewrite
from tests import tomcat_oracle
from tests.oracle import Ask, Case, Reply, _binary, free_port, request, s_client
from tests.support import TreeTest, rupex, written_out_document
from tests.test_nginx_against_server import comparable, predict
from tests.tls_oracle import are_asked, seen_by_openssl
from tests.tomcat_generator import application, asks
from tests.tomcat_oracle import read_cases, running_tomcat

TLS = (
    *('protocols="TLSv1.2"', 'protocols="all"', 'protocols="-all+TLSv1.2+TLSv1.3"', 'honorCipherOrder="true"'),
    'ciphers="ECDHE+AESGCM" honorCipherOrder="true"',
    'ciphers="TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,TLS_RSA_WITH_AES_128_CBC_SHA"',
    'ciphers="HIGH:!aNULL" protocols="TLSv1.3"',
    'cipherSuites="TLS_AES_128_GCM_SHA256" ciphers="ECDHE-RSA-AES128-GCM-SHA256"',
)
EXTERNAL = """<!DOCTYPE x [<!ENTITY e SYSTEM "file:///etc/passwd">]>
<Server><Service><Connector port="1&e;"/></Service></Server>"""
SERVER = """<Server port="8005" shutdown="{word}"{server}>
  <Service name="Catalina">
    <Connector port="8080" redirectPort="443" {connector}/>
    <Connector port="8443" SSLEnabled="true" scheme="https" secure="true">
      <SSLHostConfig {tls}><Certificate certificateKeystoreFile="/etc/keys/site.p12" {store}/></SSLHostConfig>
    </Connector>
    {more}
    <Engine name="Catalina" defaultHost="a.test"><Host name="a.test" appBase="webapps">{host}</Host></Engine>
  </Service>
</Server>
"""


def majors_of(case: Case) -> list[int]:
    """The releases that a case is asked of; 10 where it does not say."""
    said = re.search(r"^# majors: (.*)$", case.text, re.MULTILINE)
    return [10] if said is None else [int(word) for word in said[1].split()]


class TomcatAnswersTest(unittest.TestCase):
    def test_every_case_is_answered_as_predicted(self) -> None:
        cases = read_cases()
        self.assertGreaterEqual(len(cases), 12)
        runs = [(case, major) for case in cases for major in majors_of(case)]
        with ThreadPoolExecutor(2) as pool:
            for (case, major), found in zip(runs, pool.map(lambda run: self._ask(*run), runs), strict=True):
                evidence, answers = found
                self.assertEqual(evidence.host.problems, ())
                self.assertTrue(answers, f"{case.name} asks nothing")
                for ask, predicted, real in answers:
                    with self.subTest(case=case.name, tomcat=major, ask=f"{ask.method} {ask.url}"):
                        self._compare(predicted, real)

    @staticmethod
    def _ask(case: Case, major: int) -> tuple[Evidence, list[tuple[Ask, Answer, Reply]]]:
        case = Case(case.name, case.text)  # with ports of its own
        with running_tomcat(case, major) as tree:
            evidence = gather(open_tree(tree).tree, "", name=case.name)
            return evidence, [(ask, predict(evidence, ask), request(ask)) for ask in case.asks]

    def _compare(self, predicted: Answer, real: Reply) -> None:
        self.assertIsNone(predicted.unknown)
        if predicted.status is not None:
            self.assertEqual(predicted.status, real.status)
        self.assertEqual([predicted.location] if predicted.location else [], real.values("Location"))
        theirs = [pair for pair in comparable(real.headers) if pair[0] not in ("content-language", "vary")]
        ours = comparable(predicted.headers)
        self.assertEqual([name for name, _ in ours], [name for name, _ in theirs])
        for (_, value), (_, sent) in zip(ours, theirs, strict=True):
            kept = re.fullmatch(r"max-age=(\d+)", value)
            if kept is not None and sent == f"max-age={int(kept[1]) - 1}":
                continue  # it is counted down from when the request came
            self.assertRegex(sent, f"^{re.escape(value).replace('…', '.+')}$")


VALVE = '<Context><Valve className="org.apache.catalina.valves.rewrite.RewriteValve"/></Context>\n'
APPLICATIONS, SEED = 60, 20261126
PATTERNS = (
    "^/(.*)$",
    "/page.html",
    "^/page",
    "^/(p|f)(.*)l$",
    "^/folder/.*",
    "/none",
    "^/PAGE.html$",
    "^/(\\w+)/(\\w+)$",
)
TARGETS = ("/page.html", "/to/$1", "https://b.test/$1?y=%1", "-", "/q?y=2", "/drop?", "$0", "/%2/x")
FLAGS = ("R", "R=301", "R=permanent,L", "L", "F", "G", "NC,R=307", "QSA,R", "R,QSA", "NC", "")
CONDITIONS = (
    "%{QUERY_STRING} x=1", "%{QUERY_STRING} ^x=(.)$", "%{HTTPS} off", "%{HTTPS} =on", "%{HTTP_HOST} ^A\\.test$ [NC]",
    "%{REQUEST_URI} !^/a\\d+/f.*", "%{REQUEST_METHOD} GET", "%{SERVER_PORT} >9", "%{HTTP_HOST} !=b.test [OR]",
    "$1 ^p(.*)$ [OR]", "%{REQUEST_URI} ^/(\\w+)/(.*)$",
)  # fmt: skip
ASKED = ("/page.html", "/page.html?x=1", "/folder/none", "/none?x=1&y=3", "/PAGE.html", "/folder/")


class TomcatRulesTest(unittest.TestCase):
    def test_random_rules_of_applications_are_followed_as_predicted(self) -> None:
        chance = Random(SEED)
        files: dict[str, str] = {}
        for number in range(APPLICATIONS):
            lines = []
            for _ in range(chance.randint(1, 4)):
                lines += [f"RewriteCond {chance.choice(CONDITIONS)}" for _ in range(chance.choice((0, 0, 1, 2)))]
                flags = chance.choice(FLAGS)
                rule = f"RewriteRule {chance.choice(PATTERNS)} {chance.choice(TARGETS)}"
                lines.append(f"{rule} [{flags}]" if flags else rule)
            folder = f"webapps/a{number}"
            files[f"{folder}/WEB-INF/rewrite.config"] = "\n".join(lines) + "\n"
            files[f"{folder}/META-INF/context.xml"] = VALVE
            files[f"{folder}/page.html"] = files[f"{folder}/folder/x.txt"] = "pier\n"
        asks = [f"# ask: http://a.test/a{number}{path}" for number in range(APPLICATIONS) for path in ASKED]
        case = Case("rewrite", "\n".join(asks))
        told = 0
        with running_tomcat(case, 10, files) as tree:
            evidence = gather(open_tree(tree).tree, "", name="rules")
            for ask in case.asks:
                predicted, real = predict(evidence, ask), request(ask)
                if predicted.unknown is not None:
                    continue
                told += 1
                app = ask.url.split("/")[3]
                with self.subTest(ask=ask.url, rules=files[f"webapps/{app}/WEB-INF/rewrite.config"]):
                    self.assertEqual(
                        (predicted.status, [predicted.location] if predicted.location else []),
                        (real.status, real.values("Location")),
                    )
        self.assertGreater(told, 0.9 * len(case.asks))


class TomcatApplicationsTest(TomcatAnswersTest):
    def test_every_case_is_answered_as_predicted(self) -> None:
        """Random applications, all of them in one server."""
        for major, count in ((10, 120), (9, 60)):
            chance, files, lines = Random(SEED), dict[str, str](), list[str]()
            for number in range(count):
                made = application(chance, f"webapps/g{number}")
                has_form = "FORM" in made[f"webapps/g{number}/WEB-INF/web.xml"]
                lines += asks(chance, f"/g{number}", 8, has_form=has_form)
                files |= made
            case = Case("valves", "\n".join(lines))
            with running_tomcat(case, major, files) as tree:
                evidence = gather(open_tree(tree).tree, "", name="applications")
                self.assertEqual(evidence.host.problems, ())
                for ask in case.asks:
                    folder = f"webapps/{ask.url.split('/')[3]}"
                    texts = [files[f"{folder}/META-INF/context.xml"], files[f"{folder}/WEB-INF/web.xml"]]
                    with self.subTest(f"{ask.method} {ask.url}", major=major, ask=ask, texts=texts):
                        self._compare(predict(evidence, ask), request(ask))


class TomcatTlsTest(unittest.TestCase):
    def test_settings_are_negotiated_as_predicted(self) -> None:
        written = (tomcat_oracle.CASES / "tls/conf/server.xml").read_text()
        runs = [
            (number, settings, major) for number, settings in enumerate(TLS) for major in (10, 9)
            if major == 10 or "ciphers" in settings
        ]  # fmt: skip
        with tempfile.TemporaryDirectory() as scratch:
            for number, settings in enumerate(TLS):
                folder = Path(scratch, f"case{number}")
                shutil.copytree(tomcat_oracle.CASES / "tls", folder)
                (folder / "conf/server.xml").write_text(written.replace('protocols="TLSv1.2+TLSv1.3"', settings))
            with mock.patch.object(tomcat_oracle, "CASES", Path(scratch)), ThreadPoolExecutor(2) as pool:
                found = pool.map(lambda run: self._both(run[0], run[2]), runs)
                for (_, settings, major), (ours, seen) in zip(runs, found, strict=True):
                    with self.subTest(settings, tomcat=major):
                        self.assertEqual(list(ours.protocols.value or ()), seen["protocols"])
                        suites = [are_asked(ours.suites.value or ()), seen["suites"]]
                        # Tomcat 9 has a suite of its own choice in front of some; Java's server order is otherwise ours.
                        in_order = ours.preference.value == "server" and major == 10
                        self.assertEqual(*(suites if in_order else map(sorted, suites)))
                        if seen["preference"] is not None:
                            self.assertEqual(ours.preference.value, seen["preference"])

    @staticmethod
    def _both(number: int, major: int) -> tuple[Tls, dict[str, Any]]:
        case = Case(f"case{number}", "")
        with running_tomcat(case, major) as tree:
            evidence = gather(open_tree(tree).tree, "", name="case")
            endpoint = next(e for e in evidence.host.endpoints if e.tls is not None)
            seen = seen_by_openssl(case.secure, "a.test", with_groups=False)
        assert endpoint.tls is not None
        return endpoint.tls, seen


NAMED = """<SSLHostConfig protocols="TLSv1.3">{0}</SSLHostConfig>
<SSLHostConfig hostName="*.old.test" protocols="TLSv1.2" ciphers="TLS_RSA_WITH_AES_128_CBC_SHA">{0}</SSLHostConfig>
<SSLHostConfig hostName="partner.test" protocols="TLSv1.2+TLSv1.3" cipherSuites="TLS_AES_128_GCM_SHA256">{0}</SSLHostConfig>"""


class TomcatNamesTest(unittest.TestCase):
    def test_the_name_of_a_handshake_chooses_its_settings_whatever_the_hosts_are_called(self) -> None:
        written = (tomcat_oracle.CASES / "tls/conf/server.xml").read_text()
        found = re.search(r"<SSLHostConfig[^>]*>(.*?)</SSLHostConfig>", written, re.DOTALL)
        assert found is not None
        with tempfile.TemporaryDirectory() as scratch:
            folder = Path(scratch, "named")
            shutil.copytree(tomcat_oracle.CASES / "tls", folder)
            (folder / "conf/server.xml").write_text(written.replace(found[0], NAMED.format(found[1])))
            with mock.patch.object(tomcat_oracle, "CASES", Path(scratch)):
                case = Case("named", "")
                with running_tomcat(case, 10) as tree:
                    endpoints = gather(open_tree(tree).tree, "", name="named").host.endpoints
                    secured = [endpoint for endpoint in endpoints if endpoint.tls is not None]
                    self.assertEqual(len(secured), 3)
                    for name in ("a.test", "x.old.test", "partner.test"):
                        with self.subTest(name):
                            wild = "*." + name.partition(".")[2]
                            named = [e for e in secured if name in e.names or wild in e.names]
                            chosen = named[0] if named else next(e for e in secured if e.default)
                            assert chosen.tls is not None
                            seen = seen_by_openssl(case.secure, name, with_groups=False)
                            self.assertEqual(list(chosen.tls.protocols.value or ()), seen["protocols"])
                            self.assertEqual(sorted(are_asked(chosen.tls.suites.value or ())), sorted(seen["suites"]))


STORES = (
    # the store, what is said of it, and the name in the certificate that is sent: None where nothing listens
    ("two.jks", 'certificateKeystorePassword="pierpier" certificateKeyAlias="second"', "second"),
    ("two.jks", 'certificateKeystorePassword="pierpier" certificateKeyAlias="FIRST"', "first"),
    ("two.jks", 'certificateKeystorePassword="pierpier" certificateKeyAlias="third"', None),
    ("two.jks", 'certificateKeystorePassword="wrong1" certificateKeyAlias="first"', None),
    ("one.p12", 'certificateKeystorePassword="pierpier"', "only"),
    (
        "own.p12",
        'certificateKeystorePassword="pierpier" certificateKeystoreType="JKS" certificateKeyAlias="own"',
        "own",
    ),
    ("one.p12", 'certificateKeystorePassword="pierpier" certificateKeystoreType="JCEKS"', None),
    ("factory.p12", 'certificateKeystorePassword="pierpier"', None),
    ("factory.p12", "", "factory"),
)


class TomcatStoresTest(unittest.TestCase):
    def test_the_alias_chooses_and_what_does_not_open_does_not_start(self) -> None:
        ports = [free_port() for _ in STORES]
        connectors = "".join(
            f'<Connector address="127.0.0.1" port="{port}" SSLEnabled="true"><SSLHostConfig>'
            f'<Certificate certificateKeystoreFile="conf/{store}" {said}/></SSLHostConfig></Connector>'
            for port, (store, said, _) in zip(ports, STORES, strict=True)
        )
        written = (tomcat_oracle.CASES / "tls/conf/server.xml").read_text()
        with tempfile.TemporaryDirectory() as scratch:
            folder = Path(scratch, "stores")
            shutil.copytree(tomcat_oracle.CASES / "tls", folder)
            (folder / "conf/server.xml").write_text(written.replace("<Engine", f"{connectors}<Engine"))
            for file, alias, kind, word in (
                ("two.jks", "first", "JKS", "pierpier"), ("two.jks", "second", "JKS", "pierpier"),
                ("one.p12", "only", "PKCS12", "pierpier"), ("own.p12", "own", "PKCS12", "pierpier"),
                ("factory.p12", "factory", "PKCS12", "changeit"),
            ):  # fmt: skip
                options = {
                    "alias": alias,
                    "storetype": kind,
                    "storepass": word,
                    "dname": f"CN={alias}.test",
                    "keyalg": "EC",
                }
                pairs = [part for key, value in options.items() for part in (f"-{key}", value)]
                command = [
                    _binary("keytool"),
                    "-genkeypair",
                    "-keystore",
                    str(folder / "conf" / file),
                    "-keypass",
                    word,
                    *pairs,
                ]
                subprocess.run(command, check=True, capture_output=True)
            with mock.patch.object(tomcat_oracle, "CASES", Path(scratch)):
                case = Case("stores", "")
                with running_tomcat(case, 10) as tree:
                    found = gather(open_tree(tree).tree, "", name="stores")
                    configuration = found.configurations[0]
                    assert isinstance(configuration, TomcatConfiguration)
                    stores = configuration.host_context.credentials
                    by_port = {endpoint.port: endpoint for endpoint in found.host.endpoints}
                    for port, (store, said, name) in zip(ports, STORES, strict=True):
                        with self.subTest(store, said=said):
                            sent = [f"{name}.test"] if name else []
                            seen = re.findall(r"subject=CN = (\S+)", s_client(port, "a.test"))
                            self.assertEqual(seen, sent)
                            self.assertEqual(port in by_port, name is not None)
                            tls = by_port[port].tls if name else None
                            for use in tls.certificates if tls is not None and store != "two.jks" else ():
                                chain = stores.certificates(use.certificate or "")
                                self.assertEqual([one.subject for one in chain[:1]], [f"CN={name}.test"])  # type: ignore[union-attr]
                    self.assertEqual(len([p for p in found.host.problems if "does not start" in p.message]), 4)


class TomcatControlsTest(TreeTest):
    def server(self, **parts: str) -> None:
        usual = {
            "word": "SHUTDOWN",
            "server": "",
            "connector": "",
            "tls": "",
            "store": 'certificateKeystorePassword="sea-gull"',
            "more": "",
            "host": "",
        }
        self.write(
            {
                "opt/tomcat10/conf/server.xml": SERVER.format(**usual | parts),
                "opt/tomcat10/webapps/ROOT/index.html": "pier\n",
            }
        )

    def test_what_the_controls_see(self) -> None:
        valve = (
            '<Valve className="org.apache.catalina.valves.ErrorReportValve" showServerInfo="false" showReport="false"/>'
        )
        ajp = '<Connector protocol="AJP/1.3" port="8009" {}/>'
        for control, parts, verdict in (
            ("keystore.password", {"store": ""}, "fail"),
            ("keystore.password", {"store": 'certificateKeystorePassword="changeit"'}, "fail"),
            ("keystore.password", {"store": 'certificateKeystorePassword="${store.password}"'}, "pass"),
            ("surface.listener", {}, "pass"),
            ("surface.listener", {"server": ' address="0.0.0.0"'}, "fail"),
            ("surface.listener", {"more": ajp.format('address="0.0.0.0"')}, "fail"),
            ("surface.listener", {"more": ajp.format("")}, "pass"),
            ("exposure.error-page", {}, "fail"),
            ("exposure.error-page", {"host": valve}, "pass"),
            ("exposure.version", {"connector": 'server="Harbour/7.1"'}, "fail"),
            ("exposure.technology", {"connector": 'xpoweredBy="true"'}, "fail"),
            ("exposure.trace", {"connector": 'allowTrace="true"'}, "fail"),
            ("tls.protocol.floor", {"tls": 'protocols="TLSv1.2+TLSv1.3"'}, "pass"),
            ("tls.protocol.floor", {"tls": 'protocols="TLSv1+TLSv1.2"'}, "unknown"),
            ("tls.client-certificate", {"tls": 'certificateVerification="optionalNoCA"'}, "fail"),
            ("redirect.present", {}, "fail"),
        ):
            with self.subTest(control, **parts):
                self.server(**parts)
                self.assertEqual(self.check(control).verdict, verdict)

    def test_a_password_in_a_readable_file_is_none(self) -> None:
        self.server()
        config = self.root / "opt/tomcat10/conf/server.xml"
        for mode, verdict in ((0o644, "fail"), (0o600, "pass")):
            config.chmod(mode)
            self.write({"etc/passwd": "root:x:0:0::/:\n"})
            with self.subTest(mode=oct(mode)):
                self.assertEqual(self.check("keystore.password").verdict, verdict)
        self.assertNotIn("sea-gull", repr(self.assess()))

    def test_what_came_with_the_package_is_told(self) -> None:
        self.server()
        self.assertEqual(self.check("surface.sample").verdict, "pass")
        self.write({"opt/tomcat10/webapps/manager/index.jsp": "x"})
        self.assertEqual(
            (self.check("surface.sample").verdict, self.check("surface.sample").severity), ("fail", "high")
        )
        shutil.rmtree(self.root / "opt/tomcat10/webapps/manager")
        self.write(
            {
                "opt/tomcat10/conf/tomcat-users.xml": '<tomcat-users><user username="anna" password="s3cret"/></tomcat-users>'
            }
        )
        self.assertEqual(self.check("surface.sample").verdict, "fail")

    def test_rules_of_a_rewrite_valve_are_judged(self) -> None:
        rules = "RewriteCond %{{HTTPS}} off\nRewriteRule ^/(.*)$ https://%{{HTTP_HOST}}/$1 [{}]\n"
        for text, verdicts in (
            (rules.format("R=301,L"), ("pass", "pass")),
            (rules.format("R"), ("pass", "fail")),
            (rules.format("R=301,E=PIER:7"), ("unknown", "unknown")),
            ("RewriteMap piers txt:piers.txt\n", ("unknown", "unknown")),
            ("RewriteRule ^/old$ /new [R]\n", ("fail", "fail")),
        ):
            with self.subTest(text):
                self.server(host='<Valve className="org.apache.catalina.valves.rewrite.RewriteValve"/>')
                self.write(
                    {
                        "opt/tomcat10/conf/Catalina/a.test/rewrite.config": text,
                        "opt/tomcat10/webapps/ROOT/index.html": "pier",
                    }
                )
                seen = tuple(self.check(name).verdict for name in ("redirect.present", "redirect.permanent"))
                self.assertEqual(seen, verdicts)

    @given(st.text(alphabet="RewriteCondRule \n^$/()*%{}[],=!-1xL\\", max_size=200), st.text(max_size=20))
    def test_any_rules_are_followed_or_not_told(self, text: str, path: str) -> None:
        rules = parse_rules("rewrite.config", f"RewriteRule {text}\n{text}")
        subject = Subject(f"/{path}", None, {"HTTPS": "off"})
        with contextlib.suppress(UndeterminedError):
            done = rewrite(rules, subject, (10, 1))
            self.assertEqual(done.by is None, done.status is None and not done.path)

    def test_hostile_and_broken_files_are_problems(self) -> None:
        for text, words in (
            ("<Server><Service>", "is not closed"),
            ("", "no element"),
            (EXTERNAL, ""),
            ("<a>" * 100 + "</a>" * 100, "elements in each other"),
            ("<Server/>", "no connector"),
        ):
            with self.subTest(text[:40]):
                self.write({"opt/tomcat10/conf/server.xml": text})
                problems = self.gather().host.problems
                self.assertTrue(problems)
                self.assertRegex(problems[0].message, re.compile(words, re.IGNORECASE))

    def test_a_device_is_audited_by_its_server_xml_alone(self) -> None:
        self.write({"server.xml": SERVER.format(word="x", server="", connector="", tls="", store="", more="", host="")})
        done = rupex("audit", self.root / "server.xml", "--format", "json")
        host = written_out_document(done.stdout)["hosts"][0]
        self.assertEqual(host["sources"][0]["family"], "tomcat")
        self.assertTrue(any(endpoint["port"] == 8443 for endpoint in host["endpoints"]))
