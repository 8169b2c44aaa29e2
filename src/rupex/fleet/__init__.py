"""Many hosts: the inventory that names them, the run over all of them, and what it says of the fleet."""

from rupex.fleet.inventory import Entry, Inventory, load_inventory, parse_inventory
from rupex.fleet.run import Progress, run_fleet
from rupex.fleet.summary import summarize

__all__ = ["Entry", "Inventory", "Progress", "load_inventory", "parse_inventory", "run_fleet", "summarize"]
