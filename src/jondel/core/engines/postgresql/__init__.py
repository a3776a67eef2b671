"""PostgreSQL servers, and others that speak their protocol."""
