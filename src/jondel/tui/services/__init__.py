"""What runs in threads, or follows the database: everything that the interface asks of core."""
