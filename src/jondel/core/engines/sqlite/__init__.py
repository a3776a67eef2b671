"""SQLite files, read through the one SQLite library in the process (apsw).

A database file is never opened with ``open()``: on POSIX, closing any descriptor of a file drops
every lock the process holds on it. All reading goes through SQLite's own file layer.
"""
