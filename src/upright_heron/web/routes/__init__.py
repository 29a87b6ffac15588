"""Routes: a module a noun."""
