"""Runs kept in a database, and what they say over time."""

from rupex.history.store import History, StoredRun
from rupex.history.tickets import with_ticket_ages
from rupex.history.trend import Trend, trend

__all__ = ["History", "StoredRun", "Trend", "trend", "with_ticket_ages"]
