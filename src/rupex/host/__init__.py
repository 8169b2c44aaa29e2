"""A host tree: read a file, list a pattern, ask owner and mode, and never leave the tree."""

from rupex.host.facts.credentials import CredentialStore
from rupex.host.facts.library import find_library
from rupex.host.rights.accounts import Accounts
from rupex.host.tree.disk import DiskTree
from rupex.host.tree.host_tree import HostTree, TreeError
from rupex.host.tree.opening import open_tree

__all__ = ["Accounts", "CredentialStore", "DiskTree", "HostTree", "TreeError", "find_library", "open_tree"]
