"""The program in time: what is seen and heard when."""
