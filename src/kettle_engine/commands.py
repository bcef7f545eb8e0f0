"""What the engine does when it is told to: every command by its name."""

import os
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from kettle_core.errors import EngineError, KettleError
from kettle_core.rig.file_names import file_name
from kettle_core.rig.first_rig import rig_of_devices
from kettle_engine.code import code_digest
from kettle_engine.cueing import PlannedStep
from kettle_engine.engine import Engine
from kettle_engine.protocol import device_to_dict
from kettle_engine.question import Question
from kettle_engine.questions import Way
from kettle_engine.take_desk import Asked
from kettle_media.naming import name_fields
from kettle_media.rig_document import rig_from_dict, rig_to_dict
from kettle_media.roots import root_path

VIEWER_COMMANDS = (
    *("identify", "hear", "balance", "shared"),
    *("try_scene", "show_scene", "play_change", "pick_colour", "reading"),
)
Values = Mapping[str, Any]


def _steps(values: Values) -> tuple[PlannedStep, ...]:
    """The running order, as far as the engine knows it."""
    rows = values.get("steps", [])
    return tuple(
        PlannedStep(str(row["id"]), str(row["name"]), str(row.get("scene", ""))) for row in rows
    )


class Commands:
    """Some are answered at once, some by another process later; those of the viewer are its own."""

    def __init__(self, engine: Engine, takes: Path, end: Callable[[], None]) -> None:
        self._engine, self._takes, self._code = engine, takes, code_digest()
        self._commands: dict[str, Callable[[Values], Any]] = {
            "hello": lambda _: {
                "pid": os.getpid(),
                "code": self._code,
                "pids": self._engine.pids(),
                "repaired": self._engine.repaired,
            },
            "devices": lambda _: self._devices(),
            "propose_rig": self._propose_rig,
            "open_rig": self._open_rig,
            "stop": lambda _: self._engine.stop(),
            "cue": self._cue,
            "step": lambda values: self._engine.begin_step(str(values.get("step", ""))),
            "set_steps": lambda values: self._engine.set_steps(_steps(values)),
            "give_up": lambda _: self._engine.give_up(),
            "status": lambda _: self._engine.status(),
            "quit": lambda _: end(),
        }
        self._later: dict[str, Callable[[Question], None]] = {
            "record": self._record,
            "start": self._start,
            "start_over": lambda question: self._engine.start_over(question.answer),
            "rings": self._rings,
            "surroundings": self._surroundings,
            "switch": self._switch,
            "studio": self._studio_state,
            "fault": self._fault,
        }

    def do(self, question: Question) -> None:
        """Do what is asked and answer, now or later. Raises KeyError of an unknown command."""
        if question.do in VIEWER_COMMANDS:
            way = Way(question.answer, question.deadline_ns)
            self._engine.ask_viewer(question.do, question.values, way)
        elif question.do in self._later:
            self._later[question.do](question)
        else:
            question.answer(self._commands[question.do](question.values))

    def _devices(self) -> list[dict[str, Any]]:
        """Every device, with what the engine sees or hears of those that it has open."""
        words = self._engine.device_words()
        found = [device_to_dict(d) for d in self._engine.devices()]
        return [{**d, "words": words.get(d["id"], "")} for d in found]

    def _propose_rig(self, values: Values) -> dict[str, Any]:
        return rig_to_dict(rig_of_devices(values["name"], self._engine.devices()))

    def _open_rig(self, values: Values) -> None:
        rig = rig_from_dict(values["rig"])
        self._engine.open_rig(rig, bool(values.get("spares")), str(values.get("owner", "")))

    def _record(self, question: Question) -> None:
        values = question.values
        rig = rig_from_dict(values["rig"])
        root = root_path(self._takes, str(values.get("root", "")))
        path = (root / str(values["folder"])).resolve()
        if path.parent != root.resolve():
            raise EngineError(f"Takes lie in {root}; “{values['folder']}” does not.")
        asked = Asked(
            rig,
            path,
            int(values.get("countdown_s", 0)),
            str(values.get("scene", "")),
            _steps(values),
            str(values.get("first_step", "")),
        )
        self._engine.record(asked, question.answer)

    def _start(self, question: Question) -> None:
        """Record the rig that is open, or was last, without a page that says where to."""
        rig = self._engine.newest_rig
        if rig is None:
            raise EngineError("No rig has been opened yet. Open one on its Record page once.")
        files, now = rig.format.files, datetime.now()
        root = root_path(self._takes, files.root)
        number = sum(1 for path in root.iterdir() if path.is_dir()) + 1
        name = file_name(
            files.pattern, name_fields(now, rig.name, number), lambda n: (root / n).exists()
        )
        countdown_s = int(question.values.get("countdown_s", 0))
        scene = str(question.values.get("scene", ""))
        self._engine.record(Asked(rig, root / name, countdown_s, scene), question.answer)

    def _cue(self, values: Values) -> dict[str, Any]:
        fields, what = dict(values), str(values["what"])
        del fields["what"]
        # The words of a mark may follow later.
        at_ns = int(fields.pop("at_ns")) if what == "mark" and "at_ns" in fields else None
        return self._engine.cue(what, fields, at_ns)

    def _rings(self, question: Question) -> None:
        rig = rig_from_dict(question.values["rig"])
        self._engine.ask_rings(rig, Way(question.answer, question.deadline_ns))

    def _ask_driver(
        self, question: Question, device_id: str, name: str, values: dict[str, Any],
        to_plain: Callable[[Any], Any] = lambda found: found,
    ) -> None:  # fmt: skip
        def reply(found: Any) -> None:
            question.answer(found if isinstance(found, KettleError) else to_plain(found))

        self._engine.ask_driver(device_id, name, values, Way(reply, question.deadline_ns))

    def _surroundings(self, question: Question) -> None:
        device = question.values["device"]
        self._ask_driver(
            question, device, "surroundings", {"device_id": device},
            lambda found: [vars(entry) for entry in found],
        )  # fmt: skip

    def _switch(self, question: Question) -> None:
        device, key, on = (question.values[name] for name in ("device", "key", "on"))
        values = {"device_id": device, "key": key, "on": bool(on)}
        self._ask_driver(question, device, "switch_surrounding", values)

    def _studio_state(self, question: Question) -> None:
        """Faults of the simulated devices and switches of the simulated computer."""

        def to_plain(found: Any) -> dict[str, Any]:
            faults, switches = found
            rows = [{**device_to_dict(info), "faults": kinds} for info, kinds in faults]
            return {"devices": rows, "switches": switches}

        self._ask_driver(question, "", "state", {}, to_plain)

    def _fault(self, question: Question) -> None:
        device, fault = question.values["device"], question.values["fault"]
        if fault == "clock":
            self._ask_driver(question, device, "jump_clock", {"device_id": device})
        else:
            on = bool(question.values["on"])
            values = {"device_id": device, "fault": fault, "on": on}
            self._ask_driver(question, device, "set_fault", values)
