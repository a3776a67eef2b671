"""Changes, trails and results as JSON, CSV and plain text, for other programs and for reading."""
