"""What a person can do, a module a capability. ``table`` lists them; each declares its commands."""
