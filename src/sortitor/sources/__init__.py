"""Adapters to outside systems, each behind a port of the operations."""
