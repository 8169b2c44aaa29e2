"""Certificates and keys: bytes in, described values out. Nothing here opens a file, and no secret leaves it."""
