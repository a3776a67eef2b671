"""The Verify view: actions, what they should write, how they went, and findings."""
