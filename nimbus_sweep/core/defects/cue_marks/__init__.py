"""Cue marks: discs in an upper corner for a few frames, and again a few seconds later."""
