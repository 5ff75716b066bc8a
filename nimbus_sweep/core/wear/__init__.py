"""What wear leaves on film: dirt, lines and marks, found and filled from the frames beside them."""
