"""A rig's files: stills, materials, rig files."""
