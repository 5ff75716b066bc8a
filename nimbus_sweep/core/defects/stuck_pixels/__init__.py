"""Stuck and dead pixels: sites of the sensor that depart the same way in nearly every frame."""
