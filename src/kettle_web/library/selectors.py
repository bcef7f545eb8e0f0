"""What the library shows: takes found, sorted and laid in folders; what they take of the disk."""

from dataclasses import dataclass

from django.core.paginator import Page, Paginator
from django.db.models import Count, Q, QuerySet, Sum
from django.http import QueryDict

from kettle_web.frame.history import History, library_history
from kettle_web.library.bin import in_bin
from kettle_web.library.forms import FindForm
from kettle_web.library.search import found_by
from kettle_web.models import Folder, Take, Tutorial

TAKES_A_PAGE, FOLDERS_A_PAGE = 60, 24
MOST_WORDS = 80
MOST_PARTS = 8
SORTS = {
    "": ("-recorded_at", "-pk"),
    "oldest": ("recorded_at", "pk"),
    "name": ("name", "pk"),
    "longest": ("-duration_s", "-pk"),
    "largest": ("-size_bytes", "-pk"),
}


@dataclass(frozen=True)
class Branch:
    """A folder where it stands in the tree."""

    folder: Folder
    depth: int
    count: int

    @property
    def name(self) -> str:
        """Its name, as far in as it lies."""
        return "\u2002" * self.depth + self.folder.name


@dataclass(frozen=True)
class Share:
    """What the takes of a tutorial take of the disk; `from_percent` is where its part begins."""

    name: str
    size_bytes: int
    from_percent: float
    percent: float
    shade: int


@dataclass(frozen=True)
class Shelf:
    """The library's part of a page."""

    takes: Page[Take]
    find: FindForm
    folders: list[Branch]
    some_folders: Page[Branch]
    folders_q: str
    folder: Folder | None
    path: list[Folder]
    tags: list[str]
    tutorials: list[tuple[int, str]]
    uses: list[Share]
    history: History
    in_bin: int
    query: str = ""
    is_found: bool = False


def shelf(asked: QueryDict) -> Shelf:
    """Takes as they are asked for; what makes no sense counts as not asked."""
    tags = known_tags()
    branches = tree()
    tutorials = list(Tutorial.objects.values_list("pk", "name"))
    folders = [branch.folder for branch in branches]
    folders_q = asked.get("folders", "").strip()[:MOST_WORDS]
    find = FindForm(asked, tags=tags, folders=folders, tutorials=tutorials)
    find.is_valid()
    wanted = find.cleaned_data
    takes = found_by(Take.objects.all(), wanted.get("q", ""))
    folder: Folder | None = wanted.get("in")
    if folder:
        takes = takes.filter(kept_in__in=[folder.pk, *below(folder, branches)])
    if wanted.get("tutorial"):
        takes = takes.filter(tutorial=wanted["tutorial"])
    if wanted.get("tag"):
        takes = takes.filter(tags__contains=f"|{wanted['tag']}|")
    takes = takes.order_by(*SORTS.get(wanted.get("sort", ""), SORTS[""]))
    query = asked.copy()
    query.pop("page", None)
    return Shelf(
        page_of_takes(takes, asked),
        find,
        branches,
        Paginator(_called(branches, folders_q), FOLDERS_A_PAGE).get_page(asked.get("folders-page")),
        folders_q,
        folder,
        path_to(folder),
        tags,
        tutorials,
        disk_use(),
        library_history(),
        in_bin(),
        query.urlencode(),
        any(wanted.get(name) for name in ("q", "in", "tutorial", "tag")),
    )


def page_of_takes(takes: QuerySet[Take], asked: QueryDict) -> Page[Take]:
    """A page of takes; one that there is not is the last one."""
    related = ("program_job", "survey_job", "tutorial", "rig")
    paginator = Paginator(takes.select_related(*related), TAKES_A_PAGE)
    return paginator.get_page(asked.get("page"))


def tree() -> list[Branch]:
    """All folders, each below its parent."""
    counted = Folder.objects.annotate(count=Count("takes", filter=Q(takes__deleted_at=None)))
    folders = sorted(counted, key=lambda folder: folder.name.casefold())
    found: list[Branch] = []

    def add(parent: int | None, depth: int) -> None:
        for folder in folders:
            if folder.parent_id == parent:
                found.append(Branch(folder, depth, folder.count))
                add(folder.pk, depth + 1)

    add(None, 0)
    return found


def _called(branches: list[Branch], text: str) -> list[Branch]:
    """Folders that have all words of a text in their names."""
    words = text.casefold().split()
    return [b for b in branches if all(word in b.folder.name.casefold() for word in words)]


def below(folder: Folder, branches: list[Branch]) -> list[int]:
    """Ids of the folders in a folder, at any depth."""
    found = {folder.pk}
    for branch in branches:
        if branch.folder.parent_id in found:
            found.add(branch.folder.pk)
    return sorted(found - {folder.pk})


def path_to(folder: Folder | None) -> list[Folder]:
    """The folders that a folder lies in, from the top, itself last."""
    found: list[Folder] = []
    while folder:
        found.insert(0, folder)
        folder = folder.parent
    return found


def known_tags() -> list[str]:
    """All tags that are in use."""
    rows = Take.objects.exclude(tags="").values_list("tags", flat=True).distinct()
    return sorted({tag for row in rows for tag in row.split("|") if tag}, key=str.casefold)


def disk_use() -> list[Share]:
    """What tutorials take of the disk, the largest first; the small ones together."""
    rows = (
        Tutorial.objects.annotate(size=Sum("takes__size_bytes"))
        .exclude(size=None)
        .order_by("-size")
        .values_list("name", "size")
    )
    parts = [(str(name), int(size)) for name, size in rows if size]
    if len(parts) > MOST_PARTS:
        rest = sum(size for _, size in parts[MOST_PARTS - 1 :])
        parts = [*parts[: MOST_PARTS - 1], ("others", rest)]
    total, at, found = sum(size for _, size in parts) or 1, 0.0, []
    for number, (name, size) in enumerate(parts):
        percent = 100 * size / total
        found.append(Share(name, size, round(at, 2), round(percent, 2), number % 4))
        at += percent
    return found
