"""Query: the tape of statements and what came of them, and the box that they are written in."""
