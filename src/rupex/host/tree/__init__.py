"""The files of a host: a folder, an archive or a snapshot, which nothing leads out of."""
