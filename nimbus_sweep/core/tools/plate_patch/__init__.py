"""Plates: a clean picture of a flat part of the scene put over what disturbs it."""
