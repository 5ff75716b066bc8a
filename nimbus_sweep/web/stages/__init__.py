"""One blueprint for each stage of the work, and those that serve all of them."""
