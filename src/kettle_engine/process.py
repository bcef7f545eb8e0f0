"""How a process is set up that works on one frame after the other."""

import ctypes

import cv2

# malloc.h of the GNU C library.
M_TRIM_THRESHOLD, M_MMAP_THRESHOLD, M_ARENA_MAX = -1, -3, -8
KEPT_BYTES = 1 << 29
LARGEST_BYTES = 32 << 20


def work_frame_by_frame(kept_bytes: int = KEPT_BYTES) -> None:
    """One thread a call, as tracks have threads of their own; memory that was freed is kept.

    A new frame costs a millisecond in page faults when the C library gives memory back to the
    system each time; where it has no such setting nothing is done. No thread has memory of its
    own: what it has freed no other one would use, and `give_memory_back` would leave its end.
    """
    cv2.setNumThreads(1)
    library = ctypes.CDLL(None)
    if hasattr(library, "mallopt"):
        library.mallopt(M_MMAP_THRESHOLD, LARGEST_BYTES)
        library.mallopt(M_TRIM_THRESHOLD, kept_bytes)
        library.mallopt(M_ARENA_MAX, 1)
