"""Rows and changes written to files: whole, or not there."""
