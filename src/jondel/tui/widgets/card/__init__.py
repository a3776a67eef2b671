"""The card: one record shown vertically, with the records linked to it."""
