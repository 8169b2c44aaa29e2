"""TLS records and messages: bytes in, values out."""
