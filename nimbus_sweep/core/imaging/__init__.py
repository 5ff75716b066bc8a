"""Pictures: motion, noise and grain, light, filling, borrowing, colour."""
