"""The rig as values: inputs, scenes and sounds, how they are read and changed."""
