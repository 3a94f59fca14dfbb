"""Sortitor: every change to a device fleet previewed, explained, applied whole, and reverted."""

__version__ = "0.2.0"
