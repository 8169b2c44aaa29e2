"""A host tree: read a file, list a pattern, ask owner and mode, and never leave the tree."""

from rupex.host.accounts import Accounts
from rupex.host.credentials import CredentialStore
from rupex.host.library import find_library
from rupex.host.opening import open_tree
from rupex.host.tree import DiskTree, HostTree, TreeError

__all__ = ["Accounts", "CredentialStore", "DiskTree", "HostTree", "TreeError", "find_library", "open_tree"]
