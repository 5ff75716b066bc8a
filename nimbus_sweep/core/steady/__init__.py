"""The light of a shot over time: measured between frames along the motion, solved for all frames at once, named, divided out."""
