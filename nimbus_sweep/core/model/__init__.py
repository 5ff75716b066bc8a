"""What a treatment is made of: shots, findings, steps, recipes, regions, tracks, and the kinds there are."""
