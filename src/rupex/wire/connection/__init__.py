"""The only sockets: connections within limits, HTTP, handshakes of the library."""
