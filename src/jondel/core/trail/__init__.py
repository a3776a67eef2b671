"""The trail of one database: its steps, and what each of them changed."""
