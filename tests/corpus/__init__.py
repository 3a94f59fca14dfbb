"""Files as suppliers and offices make them, each with what must become of it."""
