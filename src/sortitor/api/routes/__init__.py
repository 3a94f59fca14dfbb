"""The routes, a file a noun."""
