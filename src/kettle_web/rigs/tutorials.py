"""Which tutorial belongs to a rig, and which rig to a tutorial."""

from kettle_web.models import Rig, Take, Tutorial


def tutorial_for(*, rig: Rig | None) -> Tutorial:
    """What a new take belongs to: what is worked on with the rig, else that of its newest take,
    else one without a name. It may be new: its row is made by who puts something into it.
    """
    if rig and rig.tutorial:
        return rig.tutorial
    last = Take.objects.filter(rig=rig).select_related("tutorial").first() if rig else None
    if last:
        return last.tutorial
    return Tutorial.objects.filter(name=Tutorial.UNTITLED).first() or Tutorial()


def kept(tutorial: Tutorial) -> Tutorial:
    """A tutorial with its row: made now if it has none, unless another one was quicker."""
    if tutorial.pk is None:
        return Tutorial.objects.get_or_create(name=tutorial.name)[0]
    return tutorial


def rig_of(found: Tutorial) -> Rig | None:
    """The rig that it is recorded with: one that is at it now, or that of its newest take."""
    now = Rig.objects.filter(tutorial=found).first()
    take = None if now else found.takes.exclude(rig=None).select_related("rig").first()
    return now or (take.rig if take else Rig.objects.first())


def scene_names(found: Tutorial) -> list[str]:
    """Names of the scenes that a step may begin with."""
    rig = rig_of(found)
    return [scene.name for scene in rig.values.scenes] if rig else []
