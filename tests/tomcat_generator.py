"""Random applications for Tomcat with the requests to ask of them, for comparing predictions with the real server. The words are
few, so that valves, filters and constraints meet each other often."""

from __future__ import annotations

from collections.abc import Mapping
from random import Random
from typing import Final

_NAMESPACE: Final = "https://jakarta.ee/xml/ns/jakartaee"
_VALVES: Final = "org.apache.catalina.valves"
_FILTERS: Final = "org.apache.catalina.filters"
_ADDRESSES: Final = (
    r"127\.0\.0\.1",
    r"127\.0\.0\.9",
    r"127\.0\.0\.\d+",
    r"192\.0\.2\..*",
    r".*",
    r"10\..*|127\.0\.7\.1",
)
_NETWORKS: Final = ("127.0.0.0/24", "127.0.0.9", "127.0.0.1, 192.0.2.0/24", "127.0.0.0/8", "0.0.0.0/0")
_PATTERNS: Final = ("/*", "/", "/folder/*", "*.html", "/page.html", "/folder/", "*.txt", "/none")
PATHS: Final = (
    "/page.html",
    "/folder/",
    "/folder",
    "/folder/a.txt",
    "/none",
    "",
    "/",
    "/alive",
    "/WEB-INF/web.xml",
    "/x.html?q=1",
)
METHODS: Final = ("GET", "GET", "GET", "GET", "HEAD", "POST", "PUT", "OPTIONS", "DELETE")
SENT: Final = (
    "", "", " X-Forwarded-For: 192.0.2.7", " X-Forwarded-For: 192.0.2.7,127.0.0.9", " X-Forwarded-Proto: https",
    " X-Forwarded-For: 10.0.0.1 X-Forwarded-Proto: http", " X-Visitor: 192.0.2.9",
)  # fmt: skip
ORIGINS: Final = ("", "", "", " Origin: http://pier.test", " Origin: http://far.test")
ACCOUNTS: Final = ("", "", " as aino", " as lotta", " as mate", " as stranger")
USERS: Final = (
    '<tomcat-users><role rolename="crew"/><user username="aino" password="pier" roles="crew"/>'
    '<user username="lotta" password="pier" roles="deck,guest"/><user username="mate" password="pier" groups="hands"/>'
    '<group groupname="hands" roles="crew"/></tomcat-users>\n'
)
SOURCES: Final = (" from 127.0.0.1", " from 127.0.0.9", " from 127.0.7.1")


_DISPATCHERS: Final = (
    "", "", "", "<dispatcher>REQUEST</dispatcher><dispatcher>FORWARD</dispatcher>", "<dispatcher>FORWARD</dispatcher>",
)  # fmt: skip
_ROLES: Final = ("", "<auth-constraint/>", *(f"<auth-constraint><role-name>{role}</role-name></auth-constraint>"
                 for role in ("crew", "crew", "deck", "*", "**")))  # fmt: skip
_LOGINS: Final = (
    "",
    *2 * ("<login-config><auth-method>BASIC</auth-method><realm-name>Bridge</realm-name></login-config>",),
    *(
        f"<login-config><auth-method>FORM</auth-method><form-login-config><form-login-page>{page}</form-login-page>"
        "<form-error-page>/none</form-error-page></form-login-config></login-config>"
        for page in ("/page.html", "/none")
    ),
)


def _attributes(chance: Random, choices: Mapping[str, tuple[str, ...]], at_most: int) -> dict[str, str]:
    return {
        name: chance.choice(choices[name])
        for name in chance.sample(sorted(choices), min(len(choices), chance.randint(0, at_most)))
    }


def _visitor_rule(chance: Random, kind: str) -> tuple[str, dict[str, str]]:
    """A valve or filter by address, or one that lets a proxy name its client: the end of its class, and what is said of it."""
    which = chance.choice(("RemoteAddr", "RemoteAddr", "RemoteCIDR", "RemoteHost", "RemoteIp", "RemoteIp"))
    if which == "RemoteIp":
        said = {"internalProxies": _ADDRESSES, "trustedProxies": _ADDRESSES, "remoteIpHeader": ("X-Visitor",),
                "protocolHeaderHttpsValue": ("https", "on"), "protocolHeader": ("X-Forwarded-Proto",)}  # fmt: skip
        return f"{which}{kind}", _attributes(chance, said, 2)
    words = _NETWORKS if which == "RemoteCIDR" else _ADDRESSES
    more = {"denyStatus": ("404", "418")} if which != "RemoteCIDR" or kind == "Valve" else {}
    if kind == "Valve":
        more |= {"usePeerAddress": ("true", "false")}
    return f"{which}{kind}", _attributes(chance, {"allow": words, "deny": words}, 2) | _attributes(chance, more, 1)


def _valve(chance: Random) -> str:
    if chance.random() < 0.15:
        return f'<Valve className="{_VALVES}.HealthCheckValve" path="/alive"/>'
    name, said = _visitor_rule(chance, "Valve")
    attributes = "".join(f' {key}="{value}"' for key, value in said.items())
    return f'<Valve className="{_VALVES}.{name}"{attributes}/>'


def _filter(chance: Random, number: int) -> str:
    kind = chance.random()
    if kind < 0.4:
        switches = dict.fromkeys(
            ("hstsEnabled", "antiClickJackingEnabled", "blockContentTypeSniffingEnabled"), ("true", "false")
        )
        more = {
            "hstsMaxAgeSeconds": ("600",),
            "antiClickJackingOption": ("SAMEORIGIN", "DENY"),
            "hstsIncludeSubDomains": ("true",),
        }
        name, said = "HttpHeaderSecurityFilter", _attributes(chance, switches | more, 3)
    elif kind < 0.45:
        name, said = "SetCharacterEncodingFilter", {"encoding": "UTF-8"}
    elif kind < 0.6:
        choices = {
            "ExpiresDefault": ("access plus 1 hour", "now plus 90 seconds", "A600"),
            "ExpiresByType text/html": ("access plus 2 days 1 minute",),
            "ExpiresByType text": ("modification plus 1 week",),
            "ExpiresExcludedResponseStatusCodes": ("200", "404, 304"),
        }
        name, said = "ExpiresFilter", _attributes(chance, choices, 3)
    elif kind < 0.7:
        choices = {
            "cors.allowed.origins": ("*", "http://pier.test", "http://pier.test, https://a.test"),
            "cors.allowed.methods": ("GET,POST,PUT", "GET"),
            "cors.exposed.headers": ("X-Pier",),
        }
        name, said = "CorsFilter", _attributes(chance, choices, 3)
    else:
        name, said = _visitor_rule(chance, "Filter")
    parameters = "".join(
        f"<init-param><param-name>{key}</param-name><param-value>{value}</param-value></init-param>"
        for key, value in said.items()
    )
    patterns = "".join(
        f"<url-pattern>{pattern}</url-pattern>" for pattern in chance.sample(_PATTERNS, chance.randint(1, 2))
    )
    return (
        f"<filter><filter-name>f{number}</filter-name><filter-class>{_FILTERS}.{name}</filter-class>{parameters}</filter>"
        f"<filter-mapping><filter-name>f{number}</filter-name>{patterns}{chance.choice(_DISPATCHERS)}</filter-mapping>"
    )


def _constraint(chance: Random) -> str:
    methods = "".join(
        chance.choice(("", "<http-method>GET</http-method>", "<http-method>POST</http-method><http-method>PUT</http-method>",
                       "<http-method-omission>GET</http-method-omission>"))
    )  # fmt: skip
    patterns = "".join(
        f"<url-pattern>{pattern}</url-pattern>" for pattern in chance.sample(_PATTERNS, chance.randint(1, 2))
    )
    roles = chance.choice(_ROLES)
    guarantee = chance.choice(
        ("", "", "<user-data-constraint><transport-guarantee>CONFIDENTIAL</transport-guarantee></user-data-constraint>")
    )
    name = "<web-resource-name>w</web-resource-name>"
    collection = f"<web-resource-collection>{name}{patterns}{methods}</web-resource-collection>"
    return f"<security-constraint>{collection}{roles}{guarantee}</security-constraint>"


def application(chance: Random, folder: str) -> dict[str, str]:
    """The files of an application below ``folder``."""
    valves = "".join(_valve(chance) for _ in range(chance.choice((0, 0, 1, 1, 2))))
    filters = "".join(_filter(chance, number) for number in range(chance.choice((0, 1, 1, 2, 3))))
    constraints = "".join(_constraint(chance) for _ in range(chance.choice((0, 0, 1, 2))))
    roles = "".join(
        f"<security-role><role-name>{role}</role-name></security-role>"
        for role in chance.choice((("crew",), ("crew", "deck")))
    )
    uncovered = chance.choice(("", "", "<deny-uncovered-http-methods/>"))
    descriptor = f"{uncovered}{filters}{constraints}{chance.choice(_LOGINS)}{roles}"
    realm = '<Realm className="org.apache.catalina.realm.MemoryRealm" pathname="conf/crew.xml"/>'
    return {
        f"{folder}/META-INF/context.xml": f"<Context>{realm}{valves}</Context>\n",
        f"{folder}/WEB-INF/web.xml": f'<web-app xmlns="{_NAMESPACE}" version="6.0">{descriptor}</web-app>\n',
        "conf/crew.xml": USERS,
        f"{folder}/page.html": "pier\n",
        f"{folder}/folder/a.txt": "pier\n",
    }


def asks(chance: Random, path: str, count: int, *, has_form: bool) -> list[str]:
    """Requests for the application at ``path``, as a case writes them. ``has_form``: people log in there in a form, which the
    requests of cases do not fill in."""
    accounts = ("",) if has_form else ACCOUNTS
    return [
        f"# ask: {chance.choice(METHODS)} http://a.test{path}{chance.choice(PATHS)}{chance.choice(SENT)}"
        f"{chance.choice(ORIGINS)}{chance.choice(accounts)}{chance.choice(SOURCES)}"
        for _ in range(count)
    ]
