"""What families share: patterns, releases, document roots, endpoints and files of one kind."""
