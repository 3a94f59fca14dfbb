"""Kits: what devices get."""
