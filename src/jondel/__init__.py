"""Jondel: see exactly what an app wrote to its database."""

__version__ = "0.1.0"
