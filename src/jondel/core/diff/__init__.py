"""Two states of a database in, their differences out."""
