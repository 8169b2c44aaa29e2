"""``rupex credential``: certificates, keys and key stores, described; never a secret."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE, INCOMPLETE
from rupex.user_files import read_text

_MOST_PASSWORD_BYTES = 1 << 16


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "credential", "describe certificates, keys and key stores, and which fit together",
        "rupex credential /etc/ssl/site.pem /etc/ssl/site.key", run,
    )  # fmt: skip
    parser.add_argument("file", metavar="FILE", nargs="+", type=Path, help="a certificate, key, bundle or key store")
    parser.add_argument("--password-file", metavar="FILE", help="read the password of encrypted files from here")
    parser.add_argument("--password-fd", metavar="N", type=int, help="read it from this open descriptor")
    parser.add_argument("--now", metavar="TIME", help="count days from this time, such as 2026-11-24T09:30:00Z")
    parser.add_argument("--format", choices=options.FORMATS, default="text", help="what to write to standard output")
    options.add_volume_options(parser)


def run(arguments: argparse.Namespace) -> int:
    from rupex.inspect.credentials import inspect_credentials

    now, password = options.moment(arguments.now), _password(arguments)
    document = inspect_credentials(arguments.file, now, password)
    if password is None and sys.stdin.isatty() and _is_closed(document):
        import getpass

        word = getpass.getpass("password of the encrypted files (none: leave them closed): ")
        document = inspect_credentials(arguments.file, now, word) if word else document
    if arguments.format == "json":
        from rupex.reports.formats.json_format import render_json

        show(render_json(document), is_document=True)
    else:
        from rupex.reports.text.credential import render_credentials

        width, colour = options.terminal_width(), options.wants_colour()
        show(render_credentials(document, width=width, colour=colour, quiet=arguments.quiet))
    return INCOMPLETE if document.problems else DONE


def _is_closed(document: Any) -> bool:
    """Whether something in it could not be opened for want of a password."""
    from rupex.documents.inspection import KeyItem, KeystoreItem

    return any(
        (isinstance(item, KeyItem) and item.public_sha256 is None)
        or (isinstance(item, KeystoreItem) and item.entries is None)
        for item in document.items
    )


def _password(arguments: argparse.Namespace) -> str | None:
    """The password that opens encrypted files, without its line end. Raises :class:`~rupex.model.RupexError`."""
    from rupex.model import RupexError

    try:
        if arguments.password_file is not None:
            return read_text(Path(arguments.password_file), "password file", _MOST_PASSWORD_BYTES).rstrip("\r\n")
        if arguments.password_fd is not None:
            with os.fdopen(arguments.password_fd, "r", encoding="utf-8") as file:
                return file.readline().rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise RupexError(f"the password cannot be read ({reason})") from None
    return None
