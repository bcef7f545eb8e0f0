"""Takes as files: tracks and their times, written, read, mended, put in step."""
