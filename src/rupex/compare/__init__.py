"""Two runs side by side."""
