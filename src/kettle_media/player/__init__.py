"""Plans played at once, without a program being composed first."""
