"""An open assembly page plays its version, and is told what others change of it."""

from kettle_media.player.show import Named, named_cuts
from kettle_web.assembly.material import Material
from kettle_web.assembly.services import as_now
from kettle_web.models import Rig, Take, Version
from kettle_web.takes.news import Newest, NewsConsumer
from kettle_web.takes.players import PlayerLine
from kettle_web.takes.playing import PlayConsumer


class AssemblyConsumer(PlayConsumer):
    """Plays a version as it is now."""

    GONE = "This version was deleted. Choose another one."

    def warm_up(self) -> None:
        """Have ready what players are made of, and music that may be chosen."""
        PlayerLine.nest.warm_up_with_music()

    def named(self, pk: int) -> Named:
        """Its cut list with the takes it is made of."""
        version = Version.objects.select_related("tutorial").get(pk=pk)
        material = Material(version.tutorial)
        as_now(version, material)
        return named_cuts(material.folders, version.values, material.format, material.files)


class AssemblyNews(NewsConsumer):
    """Tells of changes of a version, and of its takes."""

    document = Version

    def newest(self, pk: int) -> Newest | None:
        """The revision of a version, and a number for all that its takes are by now."""
        version = Version.objects.filter(pk=pk).only("revision", "tutorial").first()
        if version is None:
            return None
        takes = Take.objects.filter(tutorial=version.tutorial_id)
        rigs = Rig.with_takes.filter(of_take__in=takes)
        told = takes.values_list("pk", "revision", "state", "survey_job__state")
        return version.revision, hash((*told, *rigs.values_list("pk", "revision")))
