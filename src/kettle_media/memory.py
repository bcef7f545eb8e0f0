"""Memory that was freed and may go back to the system."""

import ctypes


def give_memory_back() -> None:
    """Give what was freed back to the system, after something that took much for a while."""
    library = ctypes.CDLL(None)
    if hasattr(library, "malloc_trim"):
        library.malloc_trim(0)
