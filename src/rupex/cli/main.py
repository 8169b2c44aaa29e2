"""The ``rupex`` command: parsing, dispatch, and the one place where errors become exit statuses."""

from __future__ import annotations

import gc
import os
import signal
import sys

from rupex.cli.status import DONE, INCOMPLETE, OUR_ERROR, USAGE, Terminated


def entry() -> None:
    """The console script."""
    arguments = sys.argv[1:]
    if arguments == ["--version"]:
        from rupex import __version__

        print(f"rupex {__version__}", flush=True)
        os._exit(DONE)
    if "collect" in arguments:  # on a machine that nothing is to be changed of, not even by a compiled module
        sys.dont_write_bytecode = True
    gc.disable()  # modules stay: looking through them for garbage again and again takes a twentieth of a small audit
    try:
        status = main(arguments, is_process=True)
    except SystemExit as ended:  # of argparse: help, or wrong usage
        status = ended.code if isinstance(ended.code, int) else USAGE
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except OSError:
            status = status or INCOMPLETE
    # What an audit of ten thousand sites made takes a second to be taken apart again, object by object.
    os._exit(status)


def main(arguments: list[str], *, is_process: bool = False) -> int:
    """Run one command and return its exit status. ``is_process``: the process exists for this command alone, so signals that end
    it are handled here."""
    verbose = "--verbose" in arguments
    try:
        from rupex.cli.output import open_standard_streams, say
        from rupex.cli.parser import build_parser
        from rupex.model import RupexError

        open_standard_streams()
        for number in (signal.SIGTERM, signal.SIGHUP):
            if is_process and signal.getsignal(number) is not signal.SIG_IGN:  # nohup asks for that
                signal.signal(number, _raise_terminated)
    except KeyboardInterrupt:
        return OUR_ERROR
    try:
        parsed = build_parser(arguments).parse_args(arguments)
        gc.freeze()
        gc.enable()
        status: int = parsed.run(parsed)
        sys.stdout.flush()
        return status
    except RupexError as error:
        from rupex.reports.clean import clean

        say(f"rupex: {clean(str(error))}")
        return USAGE
    except BrokenPipeError:
        return INCOMPLETE  # a reader that went away is seen to in rupex.cli.output; this was another pipe
    except KeyboardInterrupt:
        say("rupex: interrupted")
        return OUR_ERROR
    except Terminated as ended:
        say("rupex: ended by a signal")
        signal.signal(ended.number, signal.SIG_DFL)
        os.kill(os.getpid(), ended.number)
        return OUR_ERROR
    except Exception as error:  # noqa: BLE001  the last line of defence: a message, not a traceback
        from rupex.reports.clean import clean

        say(f"rupex: an error of our own: {clean(f'{type(error).__name__}: {error}')}")
        if verbose:
            import traceback

            say(traceback.format_exc())
        else:
            say("rupex: run it again with --verbose to see where, and please report it")
        return OUR_ERROR


def _raise_terminated(number: int, _: object) -> None:
    raise Terminated(number)
