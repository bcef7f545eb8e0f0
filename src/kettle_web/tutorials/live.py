"""The running order as the engine knows it, for keys and lines that need no page."""

from contextlib import suppress

from kettle_core.errors import EngineError
from kettle_core.program.running_order import RunningOrder
from kettle_core.rig.rig import Rig
from kettle_web.frame.engine import engine
from kettle_web.models import Take, Tutorial


def planned_steps(order: RunningOrder, rig: Rig) -> list[dict[str, str]]:
    """Steps with the ids of their scenes in a rig; a scene that it has not is left out."""
    ids = {scene.name.casefold(): scene.id for scene in rig.scenes}
    return [
        {"id": step.id, "name": step.title, "scene": ids.get(step.scene.casefold(), "")}
        for step in order.steps
    ]


def tell_engine(tutorial: Tutorial) -> None:
    """Have the engine know a running order that was changed while its take is recorded."""
    take = Take.objects.filter(state=Take.State.RECORDING, tutorial=tutorial).first()
    if take and take.rig:
        # Without an engine nothing is recorded; what was changed is kept all the same.
        with suppress(EngineError):
            engine().ask("set_steps", steps=planned_steps(tutorial.values, take.rig.values))
