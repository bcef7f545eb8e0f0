"""The simulated room with its devices: what plays the outside world."""
