"""The command line: one word, one job."""
