"""A toy kind of defect, and what has to follow from it."""
