"""The page."""
