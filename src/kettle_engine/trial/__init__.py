"""What is on the inputs now, taken from their rings and tried at several settings."""
