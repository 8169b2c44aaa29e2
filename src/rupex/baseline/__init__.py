"""Baselines: which controls count, how much, with which thresholds and ceilings."""

from rupex.baseline.document import Baseline, Case, Rule, builtin_names, load_baseline

__all__ = ["Baseline", "Case", "Rule", "builtin_names", "load_baseline"]
