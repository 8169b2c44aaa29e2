"""All verbs and their options."""

from __future__ import annotations

import argparse
from typing import Any

from rupex import __version__
from rupex.cli import (
    audit,
    catalogue,
    collect,
    compare,
    completion,
    credential,
    demo,
    effective,
    fleet,
    probe,
    report,
    settings,
    suites,
    trend,
)
from rupex.cli.options import terminal_width


class Help(argparse.HelpFormatter):
    """Help as wide as the terminal. argparse makes one for every option, and would look for the terminal each time."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=terminal_width() - 2)


class Parser(argparse.ArgumentParser):
    """The parser of the command, and of each verb."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**{"formatter_class": Help} | settings)


def build_parser(arguments: list[str] | None = None) -> argparse.ArgumentParser:
    """The parser; each verb leaves its function in ``run``, and the parser itself is in ``top``. ``arguments``: those that it
    will parse, whose verb then has the defaults of the settings file in force. Raises :class:`~rupex.model.RupexError` for what
    that may not set."""
    parser = Parser(
        prog="rupex",
        description="Audits how well web servers and proxies are hardened, and shows which line decided what.",
        epilog="exit status: 0 done, gates met; 1 a gate was not met; 2 wrong usage; 3 incomplete; 4 an error of our own",
        allow_abbrev=False,
    )
    parser.add_argument("--version", action="version", version=f"rupex {__version__}")
    parser.set_defaults(top=parser)
    verbs = parser.add_subparsers(title="verbs", metavar="VERB", required=True)
    for module in (
        audit,
        probe,
        effective,
        fleet,
        compare,
        trend,
        report,
        suites,
        credential,
        collect,
        catalogue,
        completion,
        demo,
    ):
        module.add_verbs(verbs)
    if arguments:
        settings.apply_settings(verbs.choices, arguments)
    return parser


__all__ = ["build_parser"]
