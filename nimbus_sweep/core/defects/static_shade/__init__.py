"""Sensor dust, hairs and lens dirt: what stays put while the scene moves behind it."""
