"""``rupex effective``: the endpoints as they will behave; with ``--url``, what one request gets, and why."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE, INCOMPLETE
from rupex.model import ClientCertificate, RupexError, bounds
from rupex.user_files import read_bounded


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "effective", "show the endpoints as they will behave; with --url, what one request gets, and why",
        "rupex effective /etc/nginx --url https://www.example.test/login", run,
    )  # fmt: skip
    parser.add_argument("path", metavar="PATH", type=Path, help="a host tree, a folder in one, or a file")
    question = parser.add_mutually_exclusive_group()
    question.add_argument("--url", help="the request to follow")
    question.add_argument("--line", metavar="FILE:LINE", help="show which endpoints and scopes that line governs")
    parser.add_argument("--method", default="GET", help="its method (default: GET)")
    parser.add_argument(
        "--header", metavar="NAME:VALUE", action="append", default=[], help="a header it carries (repeatable)"
    )
    parser.add_argument("--address", help="the address it is sent to, where several listen")
    parser.add_argument(
        "--source", metavar="ADDRESS", help="the address it comes from: what rules by address make of it"
    )
    parser.add_argument("--account", metavar="NAME", help="the account it logs in with, where it is asked to")
    parser.add_argument(
        "--client-certificate",
        metavar="FILE",
        type=Path,
        help="the certificate it shows where it is asked for one (PEM, DER)",
    )
    parser.add_argument("--status", type=int, help="ask for the headers of an answer with this status")
    options.add_tree_options(parser)
    parser.add_argument("--format", choices=options.FORMATS, default="text", help="what to write to standard output")
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.audit.assess import gather, host_name
    from rupex.host import open_tree

    located = open_tree(arguments.path, root=arguments.root, manifest=arguments.manifest)
    evidence = gather(
        located.tree, located.start, name=host_name(arguments.path, located.tree.root),
        family=arguments.family, assumed=options.assumptions(arguments.assume),
    )  # fmt: skip
    status = INCOMPLETE if evidence.host.problems else DONE
    if arguments.url is not None:
        return _answer(evidence, arguments, status)
    if arguments.line is not None:
        return _governs(evidence, located.tree, arguments, status)
    from rupex.documents.inspection import EffectiveDocument
    from rupex.documents.redaction import redacted, redacted_endpoint
    from rupex.documents.run import ProblemDocument

    problems = tuple(ProblemDocument(p.kind, p.file, p.line, redacted(p.message)) for p in evidence.host.problems)
    endpoints = tuple(redacted_endpoint(endpoint, is_asked=True) for endpoint in evidence.host.endpoints)
    document = EffectiveDocument(endpoints=endpoints, problems=problems)
    _print(document, arguments)
    return status


def _answer(evidence: Any, arguments: argparse.Namespace, status: int) -> int:
    from rupex.documents.inspection import AnswerDocument, Because, Response, UncertainHeader
    from rupex.documents.redaction import redacted, redacted_header
    from rupex.reports.clean import clean

    request = _request(arguments)
    found = evidence.answer(request)
    if found is None:
        raise RupexError(f"nothing listens for {clean(arguments.url)}: no endpoint on port {request.port}")
    _, answer = found
    given = " ".join((arguments.url, *arguments.header))  # what the user gave is shown as it was given
    location = None if answer.location is None else redacted(answer.location, given)
    document = AnswerDocument(
        url=arguments.url,
        endpoint=answer.endpoint,
        scope=answer.scope,
        transport=answer.transport,
        response=Response(
            answer.status,
            location,
            tuple((name, redacted_header(name, value, given)) for name, value in answer.headers),
            answer.closed,
            tuple(
                UncertainHeader(
                    header.name, redacted_header(header.name, header.value, given), redacted(header.why, given)
                )
                for header in answer.uncertain
            ),
        ),
        why=tuple(Because(redacted(step.message, given), step.provenance) for step in answer.why),
        unknown=None if answer.unknown is None else redacted(answer.unknown, given),
    )
    _print(document, arguments)
    return status


def _governs(evidence: Any, tree: Any, arguments: argparse.Namespace, status: int) -> int:
    from rupex.documents.inspection import GovernedDocument, LineDocument
    from rupex.documents.redaction import redacted, redacted_lines
    from rupex.host import TreeError
    from rupex.inspect.governs import governed_by
    from rupex.masking.languages import language_of

    name, _, number = arguments.line.rpartition(":")
    if not name or not number.isdigit() or not int(number):
        raise RupexError(f"--line {arguments.line}: FILE:LINE is expected, such as etc/nginx/nginx.conf:12")
    line = int(number)
    given = Path(name)
    inside = given.resolve().relative_to(tree.root).as_posix() if given.resolve().is_relative_to(tree.root) else name
    try:
        path = next((p for p in (inside, name) if tree.is_file(p)), name)
        text = tree.read(path).decode("utf-8", "replace")
        real = tree.real(path)
    except TreeError as error:
        raise RupexError(f"--line {arguments.line}: {error.message}") from None
    families = ((found.family, file) for found in evidence.configurations for file in found.files)
    family = next((family for family, file in families if file == path or tree.real(file) == real), None)  # by any name
    lines = redacted_lines(text, language_of(path, family))
    if line > len(lines):
        raise RupexError(f"--line {arguments.line}: the file has {len(lines)} lines")
    same: dict[str, bool] = {}

    def is_meant(place: Any) -> bool:
        if place.line != line or place.file is None:
            return False
        if place.file not in same:
            same[place.file] = place.file == path or tree.real(place.file) == real
        return same[place.file]

    governs = tuple(
        GovernedDocument(
            endpoint=found.endpoint.id,
            scope=found.scope.id if found.scope is not None else None,
            settings=found.settings,
        )
        for found in governed_by(evidence.host.endpoints, is_meant)
    )
    reasons = (one.why_idle(path, line) for one in evidence.configurations)
    because = next((redacted(reason) for reason in reasons if reason is not None), None)
    document = LineDocument(file=path, line=line, text=lines[line - 1].strip(), governs=governs, because=because)
    _print(document, arguments)
    return status


def _request(arguments: argparse.Namespace) -> Any:
    from rupex.servers.common.addresses import parse_address
    from rupex.servers.contract import Request

    try:
        url = urlsplit(arguments.url)
        port = url.port
    except ValueError as error:
        raise RupexError(f"--url: {error}") from None
    if url.scheme not in ("http", "https") or not url.hostname:
        raise RupexError("--url: a whole URL is expected, such as https://www.example.test/login")
    source = None if arguments.source is None else parse_address(arguments.source)
    if arguments.source is not None and source is None:
        raise RupexError(f"--source {arguments.source}: an address is expected, such as 192.0.2.7 or 2001:db8::7")
    headers = []
    for header in arguments.header:
        name, mark, value = header.partition(":")
        if not mark:
            raise RupexError(f"--header {header}: NAME:VALUE is expected")
        headers.append((name.strip(), value.strip()))
    return Request(
        method=arguments.method,
        scheme=url.scheme,
        name=url.hostname,
        port=port or (443 if url.scheme == "https" else 80),
        path=url.path or "/",
        query=url.query or None,
        headers=tuple(headers),
        address=arguments.address,
        source=None if source is None else str(source),
        account=arguments.account,
        certificate=_client_certificate(arguments.client_certificate),
        status=arguments.status,
    )


def _client_certificate(path: Path | None) -> ClientCertificate | None:
    if path is None:
        return None
    from rupex.pki.certificates import CredentialError
    from rupex.pki.clients import read_client_certificate

    try:
        return read_client_certificate(read_bounded(path, "client certificate", bounds.CREDENTIAL_FILE_BYTES))
    except CredentialError as error:
        raise RupexError(f"--client-certificate {path}: {error}") from None


def _print(document: Any, arguments: argparse.Namespace) -> None:
    if arguments.format == "json":
        from rupex.reports.formats.json_format import render_json

        show(render_json(document), is_document=True)
        return
    from rupex.reports.text import effective as reports

    render: Any = reports.render_endpoints
    if arguments.url is not None:
        render = reports.render_answer
    elif arguments.line is not None:
        render = reports.render_line
    width, colour = options.terminal_width(), options.wants_colour()
    show(render(document, width=width, colour=colour, verbose=arguments.verbose))
