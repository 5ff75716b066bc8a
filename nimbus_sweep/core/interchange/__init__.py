"""What is handed on: recipes for other shots, archives, cut lists, papers."""
