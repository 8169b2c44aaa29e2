"""Every bound on what Rupex reads, each with the reason for its number. Hitting one is a problem, never a crash."""

from typing import Final

CONFIG_FILE_BYTES: Final = 16 << 20
"""One configuration file. The largest seen in the field are generated maps of a few MiB."""

CONFIG_TOTAL_BYTES: Final = 512 << 20
"""All configuration of one host: 10,000 sites take about 10 MiB."""

CREDENTIAL_FILE_BYTES: Final = 4 << 20
"""One certificate or key file: a bundle of all public roots takes about 0.25 MiB."""

DEPLOYMENT_FILE_BYTES: Final = 1 << 20
"""Deployment files are written by hand; a megabyte of one is data."""

FIREWALL_BYTES: Final = 4 << 20
"""The rules of one packet filter: a list of ten thousand blocked addresses takes about 0.5 MiB."""

INCLUDE_DEPTH: Final = 24
"""Files that include each other: real trees stay under 5."""

LIBRARY_FILES: Final = 1_000
"""Files that the crypto library's configuration includes, one counted again each time; systems have some ten."""

INCLUDED_FILES: Final = 200_000
"""Inclusions while one configuration is read, a file counted again each time: 30,000 sites with 5 snippets each."""

NESTING: Final = 64
"""Blocks in blocks: real configurations stay under 8, and the parser must not exhaust the stack."""

DEPTH: Final = 128
"""Blocks, files and macros in each other, over all files: well below where an interpreter gives up."""

DIRECTIVES: Final = 5_000_000
"""Directives of one configuration, after its includes: 20,000 sites of 200 lines with room to spare."""

FOLDER_ENTRIES: Final = 200_000
"""Entries that one pattern of an include may match."""

LINKS: Final = 40
"""Symbolic links on the way to one file; the kernel's own bound (path_resolution(7))."""

PATH_CHARACTERS: Final = 4096
"""One path; the kernel's own bound (PATH_MAX)."""

DERIVATION_ROUNDS: Final = 2_000_000
"""Rounds of deriving keys for one file, all its parts together: the largest that anybody recommends is 1.3 million."""

DERIVATION_SECONDS: Final = 20
"""Processor time for opening one file: more than the rounds take, for what does not say how many it has."""

RSA_BITS: Final = 16_384
"""The modulus of an RSA key; OpenSSL's own bound (rsa.h, OPENSSL_RSA_MAX_MODULUS_BITS)."""

NAME_CHARACTERS: Final = 255
"""One name in a path; the kernel's own bound (NAME_MAX)."""

CERTIFICATES_IN_FILE: Final = 1_000
"""Certificates of one file that are read; a public root bundle has about 150."""

REWRITE_CYCLES: Final = 10
"""Times a request may be rewritten; nginx's own bound (ngx_http_core_module, "rewrite or internal redirection cycle")."""

OWN_REQUESTS: Final = 200
"""Requests that a server makes itself while it answers one, followed at most."""

HOST_STEPS: Final = 20_000_000
"""Steps of work for any host, each some tenths of a microsecond."""

STEPS_A_CHARACTER: Final = 50
"""Steps more for each character of its configuration: sites of different kinds take 13 (docs/speed.md)."""

MOST_HOST_STEPS: Final = 150_000_000
"""Steps for the largest host: 20,000 sites of different kinds, or some 300,000 scopes, which take 4 GiB of memory."""

EXPANDED_CHARACTERS: Final = 1 << 16
"""One value that is made of others: servers refuse header fields and lines of some 8 KiB (large_client_header_buffers,
LimitRequestFieldSize), and paths end at 4096."""

PATTERN_SECONDS: Final = 0.5
"""Processor time for one match of a pattern from a configuration, after which the outcome is unknown. Matches take microseconds
or do not end: that this is time, which the package cannot count otherwise, does not decide."""

PATTERN_ITEMS: Final = 20_000
"""Items of one compiled pattern, repetitions written out; PCRE, as servers build it, takes some 65,000 bytes."""

PATTERN_CHARACTERS: Final = 4_096
"""One pattern; nginx itself takes no longer word."""

PROBLEMS: Final = 1_000
"""Problems kept for one host; a tree with more is not the tree that was meant."""

HANDSHAKE_MESSAGE_BYTES: Final = 256 << 10
"""One handshake message of a stranger's server: real chains take about 10 KiB, post-quantum ones some 30."""

FLIGHT_BYTES: Final = 512 << 10
"""Everything that a server may send in answer to one hello."""

FLIGHT_RECORDS: Final = 512
"""Records in answer to one hello: a real flight has under ten, an endless one of empty fragments must end."""

FOREIGN_BYTES: Final = 512
"""What is kept of an answer that is no TLS, enough to tell what it is."""

CERTIFICATES_SENT: Final = 32
"""Certificates of one chain on the wire; real ones have up to five."""

WEB_BODY_BYTES: Final = 64 << 10
"""What is read of one page: enough for a title, a default page's words and a listing's head."""

WEB_HEADERS: Final = 200
"""Header lines of one answer that are kept; real ones have up to fifty."""

WEB_HEADER_CHARACTERS: Final = 8192
"""One header value; content security policies reach some 4,000."""

HOPS: Final = 10
"""Redirects that are followed from one URL; browsers give up at twenty."""

DOCUMENT_DEPTH: Final = 32
"""Tables in tables of a document that a person writes; a baseline has four."""

COMPARED_FILES: Final = 20_000
"""Files of one host whose state is compared before an interrupted run of a fleet goes on: a copied tree has some hundreds, a
whole system some 100,000, and that is read again instead."""

PROBE_NAMES: Final = 100_000
"""Names that one probe takes."""

ARCHIVE_MEMBERS: Final = 500_000
"""Members of one archive: 20,000 sites have some 80,000 files."""

ARCHIVE_NAMES: Final = 64 << 20
"""Characters in the paths of all folders of an archive: 500,000 folders whose paths have 100 characters and more."""

ARCHIVE_BYTES: Final = 1 << 30
"""What one archive may unpack to, with files that are passed over."""

ARCHIVE_KEPT_BYTES: Final = 256 << 20
"""The files of one archive that are kept in memory; a snapshot of a large host has some 100 MiB of them."""

ARCHIVE_HEADER_BYTES: Final = 1 << 20
"""One extended header of an archive: names take some 4 KiB at most, access lists some 100 bytes for each account."""
