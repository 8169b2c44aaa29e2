"""The control catalogue: one module per theme, one decorated function per control.

A control judges the neutral model and is handed its thresholds; it never knows which server it judges.
"""

from rupex.controls.catalogue import Control, Place, all_controls, control, control_called, examples

__all__ = ["Control", "Place", "all_controls", "control", "control_called", "examples"]
