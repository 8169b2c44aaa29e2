"""What a later run, and a report, need of the files that decide what fails: digests, times, and the lines themselves."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from hashlib import sha256
from typing import Final

from msgspec import structs

from rupex.documents.redaction import redacted_lines
from rupex.documents.run import Excerpt, FileTrace, HostDocument, PlaceDocument
from rupex.documents.sites import Sites
from rupex.host import HostTree, TreeError
from rupex.host.facts.processes import find_running
from rupex.masking.languages import language_of
from rupex.masking.secrets import without_secrets

MOST_EXCERPTS: Final = 300
"""Places of one host that are shown with the lines around them."""
_LINES_AROUND: Final = 2
_LINE_CHARACTERS: Final = 160
_EXCERPT_BYTES: Final = 1 << 20
"""A file from which lines are shown; a larger one was made by a program, and takes seconds to be looked through."""

MOST_TRACES: Final = 2_000
"""Files of one host that are told with their digest."""


def with_file_digests(document: HostDocument, tree: HostTree) -> HostDocument:
    """``document`` with what a later run needs to tell whether anything was done: digests and times of the files that decide
    what fails, and the processes of the servers; and with the lines that decide it."""
    families = {endpoint.id: endpoint.family for endpoint in document.endpoints}
    families |= {template.endpoint.id: template.endpoint.family for template in document.templates}
    families |= {site.id: families.get(site.template) for site in document.sites}
    contents: dict[str, bytes] = {}
    lines: dict[tuple[str, int], None] = {}
    owners: dict[str, str] = {}  # of files, the family whose configuration they are
    for place in _unsettled(document):
        decided = place.provenance.file if place.provenance is not None else None
        for file in (place.file, decided):
            if file is not None and file not in contents and len(contents) < MOST_TRACES:
                contents[file] = _content(file, tree)
        family = families.get(place.endpoint or "")
        if family is not None and place.file is not None:
            owners[place.file] = family
        if place.verdict == "fail" and place.file in contents and place.line is not None and len(lines) < MOST_EXCERPTS:
            lines[place.file, place.line] = None
        if len(contents) >= MOST_TRACES and len(lines) >= MOST_EXCERPTS:
            break
    return structs.replace(
        document,
        traces=tuple(_trace(file, content, tree) for file, content in contents.items()),
        running=find_running(tree),
        excerpts=tuple(_excerpts(lines, contents, owners)),
    )


def _unsettled(document: HostDocument) -> Iterator[PlaceDocument]:
    """The places that fail or are unknown."""
    sites = Sites(document)
    for check in document.checks:
        for place in sites.places(check.places):
            if place.verdict in ("fail", "unknown"):
                yield place


def _content(file: str, tree: HostTree) -> bytes:
    """The bytes of a file, none where it cannot be read."""
    try:
        return tree.read(file)
    except TreeError:
        return b""


def _excerpts(
    lines_by_file: Iterable[tuple[str, int]], contents: Mapping[str, bytes], owners: Mapping[str, str]
) -> Iterator[Excerpt]:
    """The lines around those that decide what fails. ``owners``: of files, the family whose configuration they are."""
    texts = {
        file: redacted_lines(contents[file].decode("utf-8", "replace"), language_of(file, owners.get(file)))
        for file in dict.fromkeys(file for file, _ in lines_by_file)
        if len(contents[file]) <= _EXCERPT_BYTES
    }
    for file, line in lines_by_file:
        if file not in texts:
            continue
        start = max(1, line - _LINES_AROUND)
        lines = texts[file][start - 1 : line + _LINES_AROUND]
        shown = tuple(text.rstrip("\r").expandtabs(4)[:_LINE_CHARACTERS] for text in lines)
        if any(shown):
            yield Excerpt(file, line, start, shown)


def _trace(file: str, content: bytes, tree: HostTree) -> FileTrace:
    has_key = b"PRIVATE KEY" in content or content[:1] in (b"\x30", b"\xfe", b"\xce")
    written = tree.modified(file)
    # The digest of a short file with a password in it would let anybody try passwords.
    without = without_secrets(content.decode("latin-1")).encode("latin-1", "replace")
    return FileTrace(
        file,
        None if has_key or not content else sha256(without).hexdigest(),
        None if written is None else written.strftime("%Y-%m-%dT%H:%M:%SZ"),
    )
