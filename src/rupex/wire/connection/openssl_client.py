"""What only a whole handshake of TLS 1.2 or older can show: whether a client may start it anew. OpenSSL shakes hands."""

from __future__ import annotations

import asyncio
import warnings
from typing import Final

from rupex.wire.connection.connection import Listener, ListenerError, Wire

_CHUNK: Final = 1 << 14


async def client_renegotiates(listener: Listener, name: str | None) -> bool | None:
    """Whether the server lets a client start a renegotiation (RFC 5746, 4); None where that could not be told."""
    from OpenSSL import SSL

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        context = SSL.Context(SSL.TLS_CLIENT_METHOD)
        context.set_min_proto_version(SSL.TLS1_VERSION)
        context.set_max_proto_version(SSL.TLS1_2_VERSION)
        context.set_verify(SSL.VERIFY_NONE, lambda *_: True)
        context.set_cipher_list(b"ALL:COMPLEMENTOFALL:@SECLEVEL=0")
        connection = SSL.Connection(context, None)
    if name is not None:
        connection.set_tlsext_host_name(name.encode("ascii", "replace"))
    connection.set_connect_state()
    try:
        async with listener.open() as wire, asyncio.timeout(listener.step_seconds()):
            if not await _shake(connection, wire):
                return None
            if not connection.renegotiate():
                return None
            return await _shake(connection, wire)
    except ListenerError as error:
        return (
            False
            if error.kind == "closed" and connection.total_renegotiations() == 0 and _was_open(connection)
            else None
        )
    except TimeoutError:
        return None


def _was_open(connection: object) -> bool:
    state = getattr(connection, "get_cipher_name", lambda: None)()
    return state is not None


async def _shake(connection: object, wire: Wire) -> bool:
    """Drive one handshake to its end; False when the server refuses it. Raises :class:`ListenerError` when it just closes."""
    from OpenSSL import SSL

    assert isinstance(connection, SSL.Connection)
    while True:
        try:
            connection.do_handshake()
            await _flush(connection, wire)
            return True
        except SSL.WantReadError:
            await _flush(connection, wire)
            wire.listener.round_trips += 1
            data = await wire.receive()
            if not data:
                raise ListenerError("closed", "the connection was closed in the handshake") from None
            connection.bio_write(data)
        except SSL.Error:
            return False


async def _flush(connection: object, wire: Wire) -> None:
    from OpenSSL import SSL

    assert isinstance(connection, SSL.Connection)
    while True:
        try:
            await wire.send(connection.bio_read(_CHUNK))
        except SSL.WantReadError:
            return
