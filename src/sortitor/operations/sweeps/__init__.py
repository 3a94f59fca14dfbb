"""Sweeps: rules, previews, runs."""
