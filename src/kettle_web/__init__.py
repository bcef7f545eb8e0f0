"""Pages, and what is kept about rigs and takes. Never touches a device, never encodes."""
