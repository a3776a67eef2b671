"""The full-screen interface, thin over core."""
