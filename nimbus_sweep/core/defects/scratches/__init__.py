"""Scratches: upright lines that last."""
