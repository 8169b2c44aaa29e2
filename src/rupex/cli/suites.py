"""``rupex suites``: what a cipher expression really selects, and what is weak in it."""

from __future__ import annotations

import argparse
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE
from rupex.model import RupexError

LANGUAGES = ("openssl",)
LONGEST_EXPRESSION = 16_384
"""Characters of an expression; the longest policies that are handed around take about 2,000."""


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "suites", "show what a cipher expression really selects, and what is weak in it",
        "rupex suites 'HIGH:!aNULL:!MD5' --assume openssl=1.0.2", run,
    )  # fmt: skip
    parser.add_argument("expression", metavar="EXPRESSION", nargs="+", help="an expression, in quotes")
    parser.add_argument("--language", choices=LANGUAGES, default="openssl", help="whose language it is")
    parser.add_argument(
        "--assume", metavar="NAME=VERSION", action="append", default=[],
        help="the crypto library's version, such as openssl=1.0.2 (default: every suite any version had)",
    )  # fmt: skip
    parser.add_argument("--format", choices=options.FORMATS, default="text", help="what to write to standard output")
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.controls.tls_suites import broken_controls
    from rupex.documents.inspection import ExpressionDocument, SuiteDocument, SuitesDocument
    from rupex.host.facts.library import parse_release
    from rupex.tls.negotiate import level_allows
    from rupex.tls.openssl import Library, expand

    assumed = options.assumptions(arguments.assume).get("openssl")
    release = None if assumed is None else parse_release(assumed)
    # Upstream starts at level 1, and at 2 since 3.2 (SSL_CTX_set_security_level(3)); a host's own policy is for audit.
    library = Library(release, 2 if release is not None and release >= (3, 2, 0) else 1)
    found = []
    for text in arguments.expression:
        if len(text) > LONGEST_EXPRESSION:
            raise RupexError(f"an expression of more than {LONGEST_EXPRESSION} characters is not read")
        selection = expand(text, library)
        level = library.security_level if selection.security_level is None else selection.security_level
        suites = tuple(
            SuiteDocument(
                code=f"0x{suite.code:04X}",
                name=suite.name,
                openssl=suite.openssl,
                version=suite.version,
                key_exchange=suite.key_exchange,
                authentication=suite.authentication,
                encryption=suite.encryption,
                bits=suite.bits,
                mac=suite.mac,
                forward_secrecy=suite.forward_secrecy,
                breaks=broken_controls(suite),
                refused=not level_allows(suite, level, library),
            )
            for suite in selection.suites
        )
        found.append(
            ExpressionDocument(
                expression=text, library=str(library), level=level, suites=suites, unknown_words=selection.unknown_words
            )
        )
    document = SuitesDocument(expressions=tuple(found))
    if arguments.format == "json":
        from rupex.reports.formats.json_format import render_json

        show(render_json(document), is_document=True)
    else:
        from rupex.reports.text.suites import render_suites

        width, colour = options.terminal_width(), options.wants_colour()
        show(render_suites(document, width=width, colour=colour, quiet=arguments.quiet))
    return DONE
