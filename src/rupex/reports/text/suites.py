"""What cipher expressions select, as text: the suites in order, and what is weak among them."""

from __future__ import annotations

from rupex.documents.inspection import ExpressionDocument, SuiteDocument, SuitesDocument
from rupex.reports.text.text_layout import Page, Style

_SHOWN = 3
_MILD = frozenset({"tls.suite.aead", "tls.suite.static-key"})


def render_suites(document: SuitesDocument, *, width: int = 100, colour: bool = False, quiet: bool = False) -> str:
    """Each expression with its suites, then the controls that a listener with them fails. ``quiet``: the names alone."""
    page = Page(width)
    for expression in document.expressions:
        if quiet:
            page.line(":".join(suite.openssl or suite.name for suite in expression.suites))
            continue
        _render(page, expression)
        page.blank()
    return page.render(colour=colour)


def _render(page: Page, expression: ExpressionDocument) -> None:
    count = len(expression.suites)
    page.line((expression.expression, "strong"), f"  {count} suites, {expression.library}, level {expression.level}")
    for word in expression.unknown_words:
        page.entry("unknown", f"{word!r} names nothing, and is passed over", indent=2, style="doubt")
    page.blank()
    if expression.suites:
        page.line((f"  {'':>3}  {'suite':<34}{'from':<9}{'exchange':<18}{'bits':>4}  breaks", "quiet"))
    for number, suite in enumerate(expression.suites, 1):
        _render_suite(page, number, suite)
    page.blank()
    broken: dict[str, list[str]] = {}
    for suite in expression.suites:
        for control in suite.breaks if not suite.refused else ():
            broken.setdefault(control, []).append(suite.openssl or suite.name)
    if broken:
        page.line(("What is weak in it", "strong"))
    for control, names in broken.items():
        more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
        page.entry(control, f"{len(names)} of {count}: {', '.join(names[:_SHOWN])}{more}", indent=2, column=26)
    if expression.suites and not broken:
        page.line(("Nothing in it breaks a control.", "good"))


def _render_suite(page: Page, number: int, suite: SuiteDocument) -> None:
    exchange = f"{suite.key_exchange}/{suite.authentication}" if suite.key_exchange else "negotiated apart"
    breaks = "refused by the level" if suite.refused else ", ".join(b.removeprefix("tls.suite.") for b in suite.breaks)
    style: Style = "plain"
    if suite.refused:
        style = "quiet"
    elif suite.breaks:
        style = "doubt" if _MILD.issuperset(suite.breaks) else "bad"
    name = suite.openssl or suite.name
    page.line(
        (f"  {number:>3}  ", "quiet"),
        (f"{name:<33} ", style),
        f"{suite.version:<9}{exchange:<18}{suite.bits:>4}  {breaks}",
    )
