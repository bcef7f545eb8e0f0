"""Pictures at other sizes, and how much of them is left."""
