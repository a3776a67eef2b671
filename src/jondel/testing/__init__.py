"""For tests: records what they write. The pytest plugin, and what it gives to them."""
