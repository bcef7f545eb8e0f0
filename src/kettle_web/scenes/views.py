"""The drawing table: scenes along its top, one of them on the sheet, what is set in its forms."""

from django import forms
from django.contrib import messages
from django.http import HttpRequest, HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import EngineError, KettleError, RigError
from kettle_core.rig import scene_changes
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.scene.scene import ColourKey, Scene
from kettle_media.rig.stills import MAX_UPLOAD_BYTES
from kettle_web.frame.asking import WrongFieldError, seen, wanted_place
from kettle_web.frame.door import FORM_BYTES, takes_up_to
from kettle_web.frame.editing import Made, edit
from kettle_web.frame.form_fields import FileForm
from kettle_web.models import Rig, Still
from kettle_web.rigs.addresses import scene_address
from kettle_web.rigs.engines import engine_of
from kettle_web.rigs.library import keep_still
from kettle_web.rigs.services import show_rig
from kettle_web.scenes import selectors
from kettle_web.scenes.changes import CHANGES, PICK_FIRST, Table, layout_inputs

TOO_LARGE_PICTURE = f"A picture has {MAX_UPLOAD_BYTES / 1e6:.0f} MB at most: nothing was changed."
GONE = "This scene is not in the rig any more, so nothing changed. Undo brings it back."


def _rig_and_scene(slug: str, scene_id: str) -> tuple[Rig, Scene]:
    """A rig and its scene. Raises RigError where the scene is gone."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    found = next((s for s in rig.values.scenes if s.id == scene_id), None)
    if found is None:
        raise RigError(GONE, "scene")
    return rig, found


@require_safe
def scenes(request: HttpRequest, slug: str) -> HttpResponse:
    """The Scenes step: the default scene on the sheet."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    return redirect("scene", slug, rig.values.default_scene.id)


@require_safe
def page(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """One scene on the drawing table, with the layers selected that the address names."""
    try:
        rig, scene = _rig_and_scene(slug, scene_id)
    except RigError as error:
        messages.error(request, str(error))
        return redirect("scenes", slug)
    return _page(request, rig, scene, request.GET.getlist("layer"))


def _page(
    request: HttpRequest,
    rig: Rig,
    scene: Scene,
    selected: list[str],
    wrong: dict[str, forms.Form] | None = None,
    error: str = "",
    mask: bool = False,
) -> HttpResponse:
    context = selectors.scene_page(rig, scene, selected, wrong)
    context |= {"mask_error": error} if mask else {"error": error}
    context["open_section"] = request.GET.get("section") or request.POST.get("section", "")
    return render(request, "scenes/table.html", context, status=400 if wrong or error else 200)


@takes_up_to(MAX_UPLOAD_BYTES + FORM_BYTES, TOO_LARGE_PICTURE)
@require_POST
def save(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """One form or button of the drawing table."""
    rig, before = _rig_and_scene(slug, scene_id)
    # A button says in its one value what it does, and how: "align left".
    part, _, how = request.POST.get("part", "").partition(" ")
    selected = request.POST.getlist("layer")
    if part not in CHANGES:
        raise RigError("This can't be set on the drawing table. Reload the page.", part)
    stills = list(rig.stills.all())
    try:
        still = _mask_still(request, rig) if part == "mask_file" else ""
    except KettleError as problem:
        return _page(request, rig, before, selected, None, str(problem), mask=True)

    def changed(values: RigValues) -> Made[RigValues]:
        table = _table(values, scene_id, selected)
        form = _form(request, table, part, stills)
        if form and not form.is_valid():
            raise WrongFieldError(**{part: form})
        data = form.cleaned_data if form else _Given(request.POST, how, still)
        change, words = CHANGES[part]
        try:
            return change(table, data), _of_what(table, words)
        except KettleError as problem:
            if form is None or part == "layout":
                raise
            field = getattr(problem, "field", "")
            form.add_error(field if field in form.fields else None, str(problem))
            raise WrongFieldError(**{part: form}) from problem

    try:
        edit(rig, changed, seen(request))
    except WrongFieldError as refused:
        return _page(request, rig, rig.values.scene(scene_id), selected, refused.wrong)
    except KettleError as problem:
        scene = next((s for s in rig.values.scenes if s.id == scene_id), None)
        if scene is None:
            raise
        return _page(request, rig, scene, selected, None, str(problem))
    show_rig(rig=rig)
    kept = [x.id for x in rig.values.scene(scene_id).layers]
    added = [x for x in kept if x not in [y.id for y in before.layers]]
    now = added[-1:] if part == "add" else [x for x in selected if x in kept]
    return redirect(scene_address(slug, scene_id, now, request.POST.get("section", "")))


def _table(values: RigValues, scene_id: str, selected: list[str]) -> Table:
    """What is selected of a scene as it is now. Raises RigError if it is gone."""
    scene = next((s for s in values.scenes if s.id == scene_id), None)
    if scene is None:
        raise RigError(GONE, "scene")
    layers = sorted(
        (x for x in scene.layers if x.id in selected), key=lambda x: selected.index(x.id)
    )
    return Table(values, scene, tuple(layers))


def _of_what(table: Table, words: str) -> str:
    """Words of a change that say of what it is."""
    names = [table.rig.input(x.input_id).name for x in table.layers]
    what = names[0] if len(names) == 1 else f"{len(names)} layers" if names else ""
    name = table.scene.name
    return f"{what} in {name}: {words}" if what else f"{name}: {words}"


class _Given(dict[str, str]):
    """What a button sent; what is missing is empty."""

    def __init__(self, post: QueryDict, how: str, still: str) -> None:
        super().__init__({name: post.get(name, "") for name in post} | {"still": still})
        if how:
            self |= {"how": how, "to": how, "spot": how}

    def __missing__(self, name: str) -> str:
        return ""


def _mask_still(request: HttpRequest, rig: Rig) -> str:
    """The name in the library of a picture that was sent. Raises RigError or PictureError."""
    form = FileForm(request.POST, request.FILES)
    if not form.is_valid():
        raise RigError(str(form.errors["file"][0]), "file")
    file = form.cleaned_data["file"]
    data = file.read(MAX_UPLOAD_BYTES + 1)
    return keep_still(rig=rig, data=data, name=file.name).digest


def _form(request: HttpRequest, table: Table, part: str, stills: list[Still]) -> forms.Form | None:
    """The form of a part that has one."""
    if part == "layout":
        return selectors.new_scene_form(table.rig, request.POST)
    layer = table.layers[0] if table.layers else None
    if part in selectors.LAYER_FORMS and layer is None:
        raise RigError(PICK_FIRST, "layer")
    if part not in selectors.LAYER_FORMS + selectors.SCENE_FORMS:
        return None
    return selectors.make_form(part, table.rig, table.scene, layer, stills, request.POST)


@require_POST
def new(request: HttpRequest, slug: str) -> HttpResponse:
    """One more scene: from a starting layout, empty, or a copy."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    here = request.POST.get("here", "")

    def changed(values: RigValues) -> Made[RigValues]:
        if "copy" in request.POST:
            made = scene_changes.with_scene_copied(values, here)
        else:
            form = selectors.new_scene_form(values, request.POST)
            if not form.is_valid():
                raise RigError("Choose a starting layout and inputs of the list.", "layout")
            data = form.cleaned_data
            made = scene_changes.with_new_scene(values, "", data["layout"], layout_inputs(data))
        return made, f"{_new_scene(values, made).name} made"

    before = rig.values
    try:
        edit(rig, changed, seen(request))
    except RigError as problem:
        values = rig.values
        scene = next((s for s in values.scenes if s.id == here), values.default_scene)
        return _page(request, rig, scene, [], None, str(problem))
    show_rig(rig=rig)
    return redirect("scene", slug, _new_scene(before, rig.values).id)


def _new_scene(before: RigValues, after: RigValues) -> Scene:
    """The scene that was made last."""
    known = {s.id for s in before.scenes}
    return [s for s in after.scenes if s.id not in known][-1]


@require_POST
def delete(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """Delete a scene; undo brings it back."""
    rig, scene = _rig_and_scene(slug, scene_id)
    here = rig.values.scenes.index(scene)

    def changed(values: RigValues) -> Made[RigValues]:
        return scene_changes.without_scene(values, scene_id), f"{scene.name} deleted"

    try:
        edit(rig, changed, seen(request))
    except RigError as problem:
        return _page(request, rig, scene, [], None, str(problem))
    messages.info(request, f"“{scene.name}” was deleted. Undo brings it back.")
    scenes = rig.values.scenes
    return redirect("scene", slug, scenes[min(max(0, here - 1), len(scenes) - 1)].id)


@require_POST
def order(request: HttpRequest, slug: str) -> HttpResponse:
    """Move a scene to another place among the scenes."""
    rig = get_object_or_404(Rig.with_takes, slug=slug)
    scene_id = request.POST.get("scene", "")

    def changed(values: RigValues) -> Made[RigValues]:
        scene = values.scene(scene_id)
        try:
            place = wanted_place(request.POST, values.scenes.index(scene))
        except ValueError as error:
            raise RigError("This scene can't be moved there. Reload the page.", "scene") from error
        return scene_changes.with_scene_at(values, scene_id, place), f"{scene.name} moved"

    edit(rig, changed, seen(request))
    return redirect("scene", slug, request.POST.get("here", "") or scene_id)


@require_POST
def play(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """Play the change-over from this scene to another one, on the sheet."""
    rig, scene = _rig_and_scene(slug, scene_id)
    engine_of(rig).ask("play_change", scene=scene.id, to=request.POST.get("to", ""))
    return redirect(scene_address(slug, scene_id, request.POST.getlist("layer")))


@require_POST
def pick(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """The key colour, from a place of the layer's picture."""
    rig, scene = _rig_and_scene(slug, scene_id)
    layer = scene_changes.layer_of(scene, request.POST.get("layer", ""))
    try:
        x, y = float(request.POST.get("x", "")), float(request.POST.get("y", ""))
    except ValueError as error:
        raise RigError("A place in the picture is needed. Click on the backdrop.", "x") from error
    try:
        colour = engine_of(rig).ask("pick_colour", scene=scene.id, layer=layer.id, x=x, y=y)
    except EngineError as problem:
        return _page(request, rig, scene, [layer.id], None, str(problem))

    def changed(values: RigValues) -> Made[RigValues]:
        table = _table(values, scene_id, [layer.id])
        data = vars(table.layer.colour_key or ColourKey(colour)) | {"on": True, "colour": colour}
        change, words = CHANGES["colour_key"]
        return change(table, data), _of_what(table, words)

    edit(rig, changed, seen(request))
    show_rig(rig=rig)
    return redirect(scene_address(slug, scene_id, [layer.id], "key"))
