"""What is measured once for each shot and read by all."""
