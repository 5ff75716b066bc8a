"""Things that cross the picture in a few frames, such as birds."""
