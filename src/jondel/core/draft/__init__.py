"""Drafts: edits that are not written yet, what they come to in SQL, and writing them safely."""
