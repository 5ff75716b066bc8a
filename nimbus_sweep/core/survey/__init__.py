"""What is wrong with a shot: one module for each kind of finding."""
