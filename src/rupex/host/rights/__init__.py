"""Who may read a file: accounts, groups and access lists."""
