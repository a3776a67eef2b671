"""Rows from files: read, matched with a table's columns, made values of them, and inserted."""
