"""Draws the demo reels of the Skerrow Point weather station, each with its truth."""
