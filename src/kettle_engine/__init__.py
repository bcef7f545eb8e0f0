"""The recording process: opens a rig's devices, shows them, records them."""
