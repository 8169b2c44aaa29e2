"""Numbers of the TLS protocols, as the registries have them. One row a fact: number, name, source."""

from __future__ import annotations

from typing import Final

from rupex.model.endpoint import ProtocolVersion

VERSION_NUMBERS: Final[dict[ProtocolVersion, int]] = {
    "SSLv2": 0x0002,  # draft-hickman-netscape-ssl-00, C.1
    "SSLv3": 0x0300,  # RFC 6101, 5.2.1
    "TLSv1": 0x0301,  # RFC 2246, 6.2.1
    "TLSv1.1": 0x0302,  # RFC 4346, 6.2.1
    "TLSv1.2": 0x0303,  # RFC 5246, 6.2.1
    "TLSv1.3": 0x0304,  # RFC 8446, 4.1.2
}
VERSION_NAMES: Final[dict[int, ProtocolVersion]] = {number: name for name, number in VERSION_NUMBERS.items()}

# Content types (RFC 8446, 5.1).
CHANGE_CIPHER_SPEC: Final = 20
ALERT: Final = 21
HANDSHAKE: Final = 22
APPLICATION_DATA: Final = 23

# Handshake types (RFC 8446, B.3; RFC 5246, 7.4; RFC 6066, 8).
CLIENT_HELLO: Final = 1
SERVER_HELLO: Final = 2
NEW_SESSION_TICKET: Final = 4
ENCRYPTED_EXTENSIONS: Final = 8
CERTIFICATE: Final = 11
SERVER_KEY_EXCHANGE: Final = 12
CERTIFICATE_REQUEST: Final = 13
SERVER_HELLO_DONE: Final = 14
CERTIFICATE_VERIFY: Final = 15
FINISHED: Final = 20
CERTIFICATE_STATUS: Final = 22
MESSAGE_HASH: Final = 254

# Extension types (IANA "TLS ExtensionType Values").
SERVER_NAME: Final = 0  # RFC 6066, 3
STATUS_REQUEST: Final = 5  # RFC 6066, 8
SUPPORTED_GROUPS: Final = 10  # RFC 8422, 5.1.1; RFC 7919
EC_POINT_FORMATS: Final = 11  # RFC 8422, 5.1.2
SIGNATURE_ALGORITHMS: Final = 13  # RFC 8446, 4.2.3
ALPN: Final = 16  # RFC 7301, 3.1
EXTENDED_MASTER_SECRET: Final = 23  # RFC 7627, 5.1
SESSION_TICKET: Final = 35  # RFC 5077, 3.2
EARLY_DATA: Final = 42  # RFC 8446, 4.2.10
SUPPORTED_VERSIONS: Final = 43  # RFC 8446, 4.2.1
COOKIE: Final = 44  # RFC 8446, 4.2.2
PSK_KEY_EXCHANGE_MODES: Final = 45  # RFC 8446, 4.2.9
KEY_SHARE: Final = 51  # RFC 8446, 4.2.8
RENEGOTIATION_INFO: Final = 0xFF01  # RFC 5746, 3.2

# Signalling suites, which are never chosen.
EMPTY_RENEGOTIATION_INFO: Final = 0x00FF  # RFC 5746, 3.3
FALLBACK: Final = 0x5600  # RFC 7507, 2

DEFLATE: Final = 1  # RFC 3749, 2

ALERT_NAMES: Final[dict[int, str]] = {  # IANA "TLS Alerts"; RFC 8446, 6; RFC 6101, 5.4
    0: "close_notify",
    10: "unexpected_message",
    20: "bad_record_mac",
    21: "decryption_failed",
    22: "record_overflow",
    30: "decompression_failure",
    40: "handshake_failure",
    41: "no_certificate",
    42: "bad_certificate",
    43: "unsupported_certificate",
    44: "certificate_revoked",
    45: "certificate_expired",
    46: "certificate_unknown",
    47: "illegal_parameter",
    48: "unknown_ca",
    49: "access_denied",
    50: "decode_error",
    51: "decrypt_error",
    60: "export_restriction",
    70: "protocol_version",
    71: "insufficient_security",
    80: "internal_error",
    86: "inappropriate_fallback",
    90: "user_canceled",
    100: "no_renegotiation",
    109: "missing_extension",
    110: "unsupported_extension",
    111: "certificate_unobtainable",
    112: "unrecognized_name",
    113: "bad_certificate_status_response",
    115: "unknown_psk_identity",
    116: "certificate_required",
    120: "no_application_protocol",
}
RSA_MD5: Final = 0x0101  # RFC 5246, 7.4.1.4.1

RETRY_RANDOM: Final = bytes.fromhex("cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c")
"""The random value of a ServerHello that is a HelloRetryRequest (RFC 8446, 4.1.3)."""
