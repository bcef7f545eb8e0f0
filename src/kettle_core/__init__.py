"""What is computed: timing, sync, layout, pictures and sound as values. No I/O, no clock."""
