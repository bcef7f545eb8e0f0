"""Threads for what may wait long, apart from each other: an engine that hangs holds up no file."""

from concurrent.futures import ThreadPoolExecutor

ENGINE = ThreadPoolExecutor(16, "engine")
FILES = ThreadPoolExecutor(8, "files")
