"""Sound: what is measured, cleaned, balanced and mixed, as float32 (channels, samples)."""
