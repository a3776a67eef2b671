"""The views, a folder each. ``table`` lists them; a new one is a folder and an entry there."""
