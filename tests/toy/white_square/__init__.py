"""A square of white, burnt into every frame: a toy that shows what a kind of defect is made of."""
