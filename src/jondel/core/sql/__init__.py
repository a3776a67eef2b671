"""SQL as text: its tokens, its with literals, and what a simple condition says."""
