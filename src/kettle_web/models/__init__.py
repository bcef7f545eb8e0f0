"""Rows of the data base, a module for each subject; migrations know two defaults by this name."""

from kettle_web.models.assembly import Export, Version
from kettle_web.models.assembly import _nothing_cut as _nothing_cut
from kettle_web.models.documents import Change, ChangedRow, Deletable, Edited, Present, Undoable
from kettle_web.models.jobs import Job, Worker
from kettle_web.models.library import Folder
from kettle_web.models.rigs import Key, Rig, Rigs, RigsAndTakes, Still
from kettle_web.models.speeds import FolderSpeed
from kettle_web.models.takes import Take
from kettle_web.models.takes import _untouched as _untouched
from kettle_web.models.tutorials import Tutorial

__all__ = [
    "Change",
    "ChangedRow",
    "Deletable",
    "Edited",
    "Export",
    "Folder",
    "FolderSpeed",
    "Job",
    "Key",
    "Present",
    "Rig",
    "Rigs",
    "RigsAndTakes",
    "Still",
    "Take",
    "Tutorial",
    "Undoable",
    "Version",
    "Worker",
]
