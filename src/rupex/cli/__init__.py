"""The command line: it translates arguments, calls the core, prints, and picks the exit status."""
