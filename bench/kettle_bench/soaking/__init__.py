"""What holds over hours and faults."""
