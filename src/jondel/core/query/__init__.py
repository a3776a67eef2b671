"""Asking a database: scripts and their statements, parameters, rehearsals, the tape."""
