"""Baselines: which controls count, how much, with which thresholds and ceilings; and waivers, failures that are accepted."""

from rupex.baseline.document import Baseline, Case, Rule, builtin_names, load_baseline
from rupex.baseline.waivers import Waiver, Waivers, load_waivers, parse_waivers, place_names

__all__ = [
    "Baseline",
    "Case",
    "Rule",
    "Waiver",
    "Waivers",
    "builtin_names",
    "load_baseline",
    "load_waivers",
    "parse_waivers",
    "place_names",
]
