"""Harbour Desk: a small made-up app for a small-boat harbour office.

It stands for the app that a user of Jondel is building. It runs in a process of its own, reaches
its database through Python's ``sqlite3`` as such apps do, and has a few honest bugs of the kinds
developers make. Nothing else in Jondel imports it.
"""
