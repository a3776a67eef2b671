"""The demo: Saltmarsh Harbour's database, and Harbour Desk, the app that writes it."""
