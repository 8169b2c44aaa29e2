"""What becomes of a request, and of an error whose page has an address of its own."""

from __future__ import annotations

from typing import Final, NamedTuple

from msgspec import Struct

from rupex.servers.apache.exchange import Exchange
from rupex.servers.apache.sections import Context, all_in
from rupex.servers.apache.syntax import Directive


class Outcome(Struct, kw_only=True):
    """What becomes of a request.

    ``context``: the sections and override files that hold for it.
    ``status``: None where content decides it.
    ``location``: the target of a redirect.
    ``by``: the directive that decides.
    ``by_server``: the server itself makes the answer (a redirect or an error): only ``Header always`` goes with it.
    ``proxied``: the URL that it is passed on to.
    ``handler``: a special one, such as ``server-status``.
    ``file``: the path that the URL is mapped to; ``is_folder``: it is a folder.
    ``unknown``: why the outcome cannot be known.
    ``steps``: the rewrite rules that matched, in order.
    ``reflects``: the part of the request that reaches the target of a redirect.
    ``leads_to``: what the rules of a section made of a request that the server makes itself, for the caller to follow.
    ``exchange``: the request as it was in the end, for which the headers of the answer are worked out.
    ``is_passed_on``: another server was meant to answer, whether it was asked or not.
    ``is_listing``: of a folder without a page, or the refusal of one.
    ``is_script``: what answers is a program.
    ``variant``: the name of the file that MultiViews chose.
    ``is_closed``: the connection is closed without an answer.
    ``login``: the sections under which a login was asked for, for the request itself or the page that stands for it.
    ``is_early``: it is decided before the variables of SetEnv and mod_ssl are set.
    """

    context: Context
    status: int | None = None
    location: str | None = None
    by: Directive | None = None
    by_server: bool = False
    proxied: str | None = None
    handler: str | None = None
    file: str | None = None
    is_folder: bool = False
    unknown: str | None = None
    steps: tuple[Directive, ...] = ()
    reflects: str | None = None
    leads_to: Exchange | None = None
    exchange: Exchange | None = None
    is_passed_on: bool = False
    is_early: bool = False
    login: Context | None = None
    is_listing: bool = False
    is_script: bool = False
    is_closed: bool = False
    variant: str = ""


class Decision(NamedTuple):
    """Whether a visitor without a login gets in, from the address that is asked about, or from one that no rule names.

    ``status``: of the refusal, None where the module that asks for a login decides.
    ``by``: the directive that decides, None for none.
    """

    is_let_in: bool
    status: int | None
    by: Directive | None


OPEN: Final = Decision(True, None, None)


def error_page(context: Context, status: int) -> Directive | None:
    """The ``ErrorDocument`` for a status: its second word is a path, an address or a text; None for the server's own page."""
    found = None
    for directive in all_in(context, "errordocument"):
        words = directive.args
        if len(words) > 1 and words[0] == str(status):
            # An address for 401 is not taken: the browser would never ask for a password (core.c, set_error_document).
            found = None if words[1].lower() == "default" or (status == 401 and "://" in words[1]) else directive
    return found


def moved_by_error(outcome: Outcome, status: int | None) -> Outcome:
    """What becomes of an answer with an error ``status`` of the server's own where its page is an address."""
    page = error_page(outcome.context, status) if status is not None and status >= 400 else None
    if page is None or "://" not in page.args[1]:
        return outcome
    steps = (*outcome.steps, *((outcome.by,) if outcome.by is not None else ()))
    return Outcome(
        context=outcome.context, status=302, location=page.args[1], by=page, by_server=True, file=outcome.file, steps=steps,
        exchange=outcome.exchange, is_passed_on=outcome.is_passed_on, is_early=outcome.is_early, unknown=outcome.unknown,
    )  # fmt: skip
