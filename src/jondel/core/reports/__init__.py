"""Steps, ranges of them and verify runs as pages, documents and charts."""
