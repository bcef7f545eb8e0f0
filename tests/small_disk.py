"""A small file system of its own, to be filled."""

import os
import subprocess
import unittest
from contextlib import contextmanager


@contextmanager
def small_disk(folder, size_mb):
    """A file system of its own; only root may make one."""
    folder.mkdir(parents=True)
    mount = ["mount", "-t", "tmpfs", "-o", f"size={size_mb}m", "tmpfs", str(folder)]
    if os.geteuid() or subprocess.run(mount, check=False, capture_output=True).returncode:
        raise unittest.SkipTest("A file system can't be mounted here.")
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)
