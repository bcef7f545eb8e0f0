"""Time: frame numbers, device clocks and what two recordings have in common."""
