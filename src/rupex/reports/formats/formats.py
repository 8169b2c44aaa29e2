"""The forms of a run document, by name: what goes to standard output, and to files by their suffix."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from importlib import import_module
from pathlib import Path
from typing import Final

from rupex.documents.run import Run
from rupex.model import RupexError

# name: suffix, module, function
_FORMS: Final[dict[str, tuple[str, str, str]]] = {
    "text": (".txt", "text.text", "render_run"),
    "json": (".json", "formats.json_format", "render_json"),
    "html": (".html", "html.html", "render_html"),
    "markdown": (".md", "formats.markdown", "render_markdown"),
    "csv": (".csv", "formats.csv_format", "render_csv"),
    "sarif": (".sarif", "formats.sarif", "render_sarif"),
    "junit": (".xml", "formats.junit", "render_junit"),
    "cyclonedx": (".cdx.json", "formats.cyclonedx", "render_cyclonedx"),
    "openmetrics": (".prom", "formats.openmetrics", "render_openmetrics"),
}
NAMES: Final = tuple(_FORMS)


def form_of(path: Path) -> str:
    """The form that goes with a file's suffix. Raises :class:`~rupex.model.RupexError` for one that none goes with."""
    name = path.name.lower()
    found = [form for form, (suffix, _, _) in _FORMS.items() if name.endswith(suffix)]
    if not found:
        raise RupexError(
            f"--output {path}: no form goes with {path.suffix or 'no suffix'!r}; write FORM:FILE ({', '.join(NAMES)})"
        )
    return max(found, key=lambda form: len(_FORMS[form][0]))


def render(run: Run, form: str) -> str | Iterable[bytes]:
    """``run`` in one of the forms but ``text``, which needs a width; as pieces of UTF-8 where it may be large."""
    _, module, function = _FORMS[form]
    write: Callable[[Run], str | Iterable[bytes]] = getattr(import_module(f"rupex.reports.{module}"), function)
    return write(run)
