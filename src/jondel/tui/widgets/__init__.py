"""The parts the views are made of."""
