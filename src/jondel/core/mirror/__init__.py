"""The mirror: a SQLite file with the tables of another engine's database, to take snapshots of."""
