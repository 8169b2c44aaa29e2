"""Structured reading of what HTTP answers say: header values and resource names."""
