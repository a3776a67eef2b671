"""Finds databases: files, and what the app's own configuration says of servers."""
