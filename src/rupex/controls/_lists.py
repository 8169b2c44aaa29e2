"""What several controls ask of a list of which perhaps only a part was seen."""

from __future__ import annotations

from typing import Any

from rupex.model import Judgement, Pass, Setting, Unknown


def nothing_bad(setting: Setting[Any], why: str = "") -> Judgement:
    """The judgement where nothing bad is in what was seen: a pass only if all was seen. ``why`` it passes."""
    if setting.is_known:
        return Pass(setting.provenance, why)
    return Unknown(setting.why_unknown, setting.provenance)
