"""Which httpd it is, and what that release does by default."""

from __future__ import annotations

from typing import Final

from rupex.host import HostTree
from rupex.host.facts.packages import DPKG_STATUS
from rupex.servers.common.releases import Release, Releases

RELEASES: Final = Releases("apache", "httpd", ("apache2", "apache2-bin", "httpd", "apache"))
default = RELEASES.default
find_release = RELEASES.find


def is_debian_build(tree: HostTree) -> bool:
    """Whether it is as Debian and its kin build it."""
    return tree.is_file("etc/apache2/apache2.conf") or tree.is_file(DPKG_STATUS)


__all__ = ["RELEASES", "Release", "default", "find_release", "is_debian_build"]
