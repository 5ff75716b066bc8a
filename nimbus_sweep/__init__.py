"""Nimbus Sweep: takes capture defects out of footage by looking along time."""

__version__ = "0.1.0"
