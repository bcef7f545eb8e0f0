"""Sound files and tracks, read on the master's time axis and cleaned."""
