"""Runs kept in a database, and what they say over time."""

from rupex.history.store import History, StoredRun
from rupex.history.tickets import with_ticket_ages
from rupex.history.trend import Point, Trend, trend

__all__ = ["History", "Point", "StoredRun", "Trend", "trend", "with_ticket_ages"]
