"""How the command line speaks: a module of its own, since every command sets it."""

from __future__ import annotations


class Manner:
    """How much is said, and whether in colour; set once by the root of the command line."""

    quiet = False
    plain = False
