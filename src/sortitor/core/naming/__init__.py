"""Device names by templates; `compose` makes them, for many devices at once."""
