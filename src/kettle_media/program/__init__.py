"""Programs: takes composed to files."""
