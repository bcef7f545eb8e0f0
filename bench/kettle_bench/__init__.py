"""What only measures: speed as ratios, long takes, faults. Not part of what is installed."""
