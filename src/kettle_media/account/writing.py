"""What came from devices, written down by who read them, each second (docs/take-format.md)."""

import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from kettle_media.durable import LineFile

FOLDER = "account"
EVERY_NS = 1_000_000_000


@dataclass
class _Run:
    """Captures of one input whose numbers go on, since the last line."""

    name: str
    numbers: list[list[int]] = field(default_factory=list)
    from_ns: int = 0
    to_ns: int = 0


class AccountWriter:
    """Counts what came of some inputs of a take. Times are the master clock's, in ns.

    `who` names the file, one for each process that reads devices; `at_once` as of `LineFile`.
    """

    def __init__(
        self, folder: Path, who: str, inputs: Iterable[str], since_ns: int, at_once: bool = False
    ) -> None:
        (folder / FOLDER).mkdir(exist_ok=True)
        self._file = LineFile(folder / FOLDER / f"{who}.jsonl", at_once)
        self._runs = {name: _Run(f"{os.getpid()}.0") for name in inputs}
        self._since_ns = since_ns

    def came(self, name: str, no: int, master_ns: int, restarted: bool) -> None:
        """A capture of an input was there for whoever takes it."""
        run = self._runs.get(name)
        if run is None:
            return
        goes_on = run.numbers and run.numbers[-1][1] == no - 1
        if restarted or (run.numbers and no <= run.numbers[-1][1]):
            # The numbers need not go on from those before.
            self.write(master_ns)
            process, _, count = run.name.partition(".")
            run = self._runs[name] = _Run(f"{process}.{int(count) + 1}")
            goes_on = False
        if goes_on:
            run.numbers[-1][1] = no
        else:
            run.numbers.append([no, no])
        run.from_ns = run.from_ns or master_ns
        run.to_ns = master_ns

    def look(self, now_ns: int) -> None:
        """Write down what came, if a second has passed."""
        if now_ns - self._since_ns >= EVERY_NS:
            self.write(now_ns)

    def write(self, now_ns: int) -> None:
        """Write down what came until now."""
        came: list[dict[str, Any]] = []
        for name, run in self._runs.items():
            if run.numbers:
                came.append({"input": name, "run": run.name, "numbers": run.numbers,
                             "from_ns": run.from_ns, "to_ns": run.to_ns})  # fmt: skip
                self._runs[name] = _Run(run.name)
        self._file.write({"since_ns": self._since_ns, "until_ns": now_ns, "came": came})
        self._since_ns = now_ns

    def flush(self, patience_s: float) -> None:
        """Wait so long for the disk to have what was written down."""
        self._file.close(patience_s)

    def close(self, now_ns: int) -> None:
        """Write down the rest; a disk that takes its time is not waited for."""
        self.write(now_ns)
        self._file.close(timeout_s=0.0)
