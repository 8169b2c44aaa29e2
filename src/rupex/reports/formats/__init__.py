"""The forms of a run document that machines read."""
