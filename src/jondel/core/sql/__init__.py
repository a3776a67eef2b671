"""SQL as text: its tokens, its values written out, and what a simple condition says."""
