"""The demo scenario: Ternholm Ferries, a made-up island ferry company. All names are under ``.test``."""
