"""Light that flickers, pumps, jumps or rolls through the picture in bands."""
