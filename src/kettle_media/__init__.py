"""Bytes to values and back: tracks, take folders, the program, through PyAV."""
