"""The snapshot as a plain POSIX shell script, made of ``collect.sh`` and the same table of what is taken."""

from __future__ import annotations

from importlib import resources

from rupex.snapshot.plan import evidence_rows


def render_script() -> str:
    """The whole script. It writes an archive in the form that ``rupex audit`` reads, with owners and modes in a manifest."""
    script = resources.files("rupex.snapshot").joinpath("collect.sh").read_text("utf-8")
    rows = "".join(f"{row.kind} {row.pattern}\n" for row in evidence_rows())
    return script.replace("@ROWS@\n", rows)
