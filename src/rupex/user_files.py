"""Files that a person names on the command line or in a document of theirs: read within a bound, written whole.

Two rules hold for all of them. What is read is a regular file, opened without waiting, of which at most ``most`` bytes and one
more are taken: a device, a pipe or a file of the kernel never keeps a run from ending. What is written appears whole or not at
all, and only its owner can read it, since it holds findings about a host; but a device, a pipe or a link that the user named
is written to, never replaced.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, Final

from rupex.model import RupexError, bounds
from rupex.parallel import signals_held

PRIVATE: Final = 0o600
"""The mode of what is written here."""
_READ: Final = os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY
_NEW: Final = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_CHUNK: Final = 1 << 20
_OWN_DESCRIPTOR: Final = re.compile(r"/(?:proc/(?:self|thread-self|\d+)|dev)/fd/(\d{1,4})")


def read_bounded(path: Path, what: str, most: int) -> bytes:
    """The bytes of the regular file ``path``, no more than ``most``. ``what`` it is stands before its name in an error, a
    :class:`~rupex.model.RupexError`."""
    label = f"{what} {path}".strip()
    try:
        descriptor = os.open(path, _READ)
    except (OSError, ValueError) as error:
        raise RupexError(f"{label}: cannot be read ({_reason(error)})") from None
    try:
        status = os.fstat(descriptor)
        if not stat.S_ISREG(status.st_mode):
            kind = "a folder" if stat.S_ISDIR(status.st_mode) else "not a regular file"
            raise RupexError(f"{label}: it is {kind}; name a file")
        content = bytearray()
        while len(content) <= most and (more := os.read(descriptor, min(_CHUNK, most + 1 - len(content)))):
            content += more
    except OSError as error:
        raise RupexError(f"{label}: cannot be read ({_reason(error)})") from None
    finally:
        os.close(descriptor)
    if len(content) > most:
        raise RupexError(f"{label}: more than {most} bytes are not read")
    return bytes(content)


def read_text(path: Path, what: str, most: int) -> str:
    """:func:`read_bounded`, as UTF-8."""
    try:
        return read_bounded(path, what, most).decode("utf-8")
    except UnicodeDecodeError:
        raise RupexError(f"{what} {path}: it is not UTF-8".strip()) from None


def write_whole(path: Path, content: str | bytes | Iterable[bytes]) -> None:
    """Write ``content``, text as UTF-8, or pieces one behind the other, to what the user calls ``path``.

    A device, a FIFO or one of the run's own descriptors (``/dev/stdout``) is written to. Of a link the target is written. A
    regular file is replaced by a new one of mode 0600, made under a random name in the same folder: other programs see the
    old content or the new, never a part. Raises :class:`~rupex.model.RupexError`.
    """
    content = content.encode() if isinstance(content, str) else content
    pieces = [content] if isinstance(content, bytes) else content
    try:
        descriptor = _open_in_place(path)
        if descriptor is not None:
            try:
                _write_all(descriptor, pieces)
            finally:
                os.close(descriptor)
        else:
            _replace(Path(os.path.realpath(path)), pieces)
    except (OSError, ValueError) as error:
        raise RupexError(f"{path}: cannot be written ({_reason(error)})") from None


def _open_in_place(path: Path) -> int | None:
    """A descriptor that writes to ``path`` where it is, or None for a regular file and what is not there."""
    own = _own_descriptor(path)
    if own is not None:
        return os.dup(own)
    try:
        status = os.stat(path)
    except FileNotFoundError:
        return None
    if stat.S_ISREG(status.st_mode):
        return None
    return os.open(path, os.O_WRONLY | os.O_CLOEXEC | os.O_NOCTTY)


def _own_descriptor(path: Path) -> int | None:
    """The number of the open descriptor that ``path`` is a name of, followed through links by name: the system resolves such
    a link to the file behind it, which would be opened anew, at its start."""
    here = os.path.abspath(path)
    for _ in range(bounds.LINKS):
        folder = os.path.realpath(os.path.dirname(here))
        here = os.path.join(folder, os.path.basename(here))
        found = _OWN_DESCRIPTOR.fullmatch(here)
        if found is not None and folder in ("/dev/fd", f"/proc/{os.getpid()}/fd"):
            return int(found[1])
        try:
            here = os.path.join(folder, os.readlink(here))
        except OSError:
            return None
    return None


def _replace(path: Path, pieces: Iterable[bytes]) -> None:
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    scratch = f".rupex-{os.urandom(8).hex()}"
    try:
        with signals_held() as let_in:  # as in new_file
            descriptor = os.open(scratch, _NEW, PRIVATE, dir_fd=folder)
            try:
                try:
                    let_in()
                    _write_all(descriptor, pieces)
                    os.fsync(descriptor)
                finally:
                    os.close(descriptor)
                os.rename(scratch, path.name, src_dir_fd=folder, dst_dir_fd=folder)
            except BaseException:
                with suppress(OSError):
                    os.unlink(scratch, dir_fd=folder)
                raise
    finally:
        os.close(folder)


def _write_all(descriptor: int, pieces: Iterable[bytes]) -> None:
    for piece in pieces:
        view = memoryview(piece)
        while view:
            view = view[os.write(descriptor, view) :]


@contextmanager
def new_file(path: Path) -> Iterator[IO[bytes]]:
    """A new file of mode 0600, to be written while the block runs, and removed when the block fails. Nothing that exists is
    touched, nor a link followed. Raises :class:`~rupex.model.RupexError`."""
    # A signal between the call that makes the file and the block that removes it would leave it.
    with signals_held() as let_in:
        try:
            descriptor = os.open(path, _NEW, PRIVATE)
        except FileExistsError:
            raise RupexError(f"{path}: exists already; name another file") from None
        except (OSError, ValueError) as error:
            raise RupexError(f"{path}: cannot be written ({_reason(error)})") from None
        made = os.fstat(descriptor)
        try:
            with os.fdopen(descriptor, "wb") as file:
                let_in()
                yield file
        except BaseException as error:
            _remove(path, made)
            if isinstance(error, OSError):
                raise RupexError(f"{path}: cannot be written ({_reason(error)})") from None
            raise


def _remove(path: Path, made: os.stat_result) -> None:
    """Unlink ``path`` if it is still the file that was made."""
    with suppress(OSError):
        if os.path.samestat(os.lstat(path), made):
            os.unlink(path)


def append_line(path: Path, line: bytes) -> None:
    """Add ``line`` to the regular file ``path``, which is made with mode 0600, in a folder that is made with mode 0700. Raises
    :class:`OSError`."""
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    flags = os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
    descriptor = os.open(path, flags, PRIVATE)
    try:
        _write_all(descriptor, [line])
    finally:
        os.close(descriptor)


def _reason(error: OSError | ValueError) -> str:
    return (error.strerror or "cannot be opened") if isinstance(error, OSError) else "not a file name"


__all__ = ["append_line", "new_file", "read_bounded", "read_text", "write_whole"]
