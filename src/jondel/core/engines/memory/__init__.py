"""An engine that keeps tables in memory: for tests, and the plainest reading of the protocol."""
