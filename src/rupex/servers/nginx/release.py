"""Which nginx it is, and what that release does by default."""

from __future__ import annotations

from functools import cache
from typing import Final

from rupex.servers.common.releases import Release, Releases

RELEASES: Final = Releases(
    "nginx", "nginx", ("nginx", "nginx-core", "nginx-light", "nginx-full", "nginx-extras", "nginx-common")
)
default = RELEASES.default
find_release = RELEASES.find


@cache
def directives_by_release() -> dict[str, tuple[tuple[int, ...] | None, tuple[int, ...] | None]]:
    """Directives that not every release knows: the first that does, and the first that no longer does."""
    return {
        name: (
            RELEASES.parse(row["since"]) if "since" in row else None,
            RELEASES.parse(row["until"]) if "until" in row else None,
        )
        for name, row in RELEASES.table["directives"].items()
    }


__all__ = ["RELEASES", "Release", "default", "directives_by_release", "find_release"]
