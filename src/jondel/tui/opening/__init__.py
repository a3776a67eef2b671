"""The view in which a database is chosen, before one is open."""
