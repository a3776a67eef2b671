"""Making the app do something, and checking what it did."""
