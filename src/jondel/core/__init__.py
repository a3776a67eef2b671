"""What Jondel can do, without any interface: no terminal code, no printing."""
