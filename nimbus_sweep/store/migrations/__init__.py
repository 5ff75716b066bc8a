"""Changes of the tables, in order."""
