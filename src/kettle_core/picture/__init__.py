"""Pictures on YUV 4:2:0 planes: scaled, masked, keyed, composed."""
