"""Reading and writing reels: movie files, sound, colour tags."""
