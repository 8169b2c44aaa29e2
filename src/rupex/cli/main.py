"""The ``rupex`` command: parsing, dispatch, and the one place where errors become exit statuses."""

from __future__ import annotations

import os
import sys

DONE, GATE_NOT_MET, USAGE, INCOMPLETE, OUR_ERROR = 0, 1, 2, 3, 4


def entry() -> None:
    """The console script."""
    status = main(sys.argv[1:])
    for stream in (sys.stdout, sys.stderr):
        if stream is not None:
            stream.flush()
    # What an audit of ten thousand sites made takes a second to be taken apart again, object by object.
    os._exit(status)


def main(arguments: list[str]) -> int:
    """Run one command and return its exit status."""
    if arguments == ["--version"]:
        from rupex import __version__

        print(f"rupex {__version__}")
        return DONE
    from rupex.cli.parser import build_parser
    from rupex.model import RupexError

    parsed = None
    try:
        parsed = build_parser(arguments).parse_args(arguments)
        status: int = parsed.run(parsed)
        sys.stdout.flush()
        return status
    except RupexError as error:
        from rupex.reports.clean import clean

        print(f"rupex: {clean(str(error))}", file=sys.stderr)
        return USAGE
    except BrokenPipeError:
        # The reader of our output went away; what is still buffered has no reader either.
        sys.stdout = None
        return DONE
    except KeyboardInterrupt:
        print("rupex: interrupted", file=sys.stderr)
        return OUR_ERROR
    except Exception as error:  # noqa: BLE001  the last line of defence: a message, not a traceback
        print(f"rupex: an error of our own: {type(error).__name__}: {error}", file=sys.stderr)
        if getattr(parsed, "verbose", False):
            import traceback

            traceback.print_exc()
        else:
            print("rupex: run it again with --verbose to see where, and please report it", file=sys.stderr)
        return OUR_ERROR
