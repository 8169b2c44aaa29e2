"""``rupex completion``: a completion script for a shell."""

from __future__ import annotations

import argparse
from typing import Any

from rupex.cli import options
from rupex.cli.output import show
from rupex.cli.status import DONE


def add_verbs(verbs: Any) -> None:
    parser = options.verb(
        verbs, "completion", "print a completion script for a shell",
        "rupex completion bash > /etc/bash_completion.d/rupex", run,
    )  # fmt: skip
    parser.add_argument("shell", metavar="SHELL", choices=("bash", "zsh", "tcsh"), help="bash, zsh or tcsh")


def run(arguments: argparse.Namespace) -> int:
    import shtab

    show(shtab.complete(arguments.top, arguments.shell))
    return DONE
