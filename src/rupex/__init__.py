"""Rupex audits how well web servers and proxies are hardened, and shows which line decided what."""

__version__ = "0.1.0"
