"""What Jondel keeps for a person: its folder, small files in it, and values in them."""
