"""The drawing table: scenes along its top, one of them on the sheet, what is set in its forms."""

from typing import Any

from django import forms
from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST, require_safe

from kettle_core.errors import EngineError, KettleError, RigError
from kettle_core.rig import scene_changes
from kettle_core.rig.rig import Rig as RigValues
from kettle_core.scene.scene import ColourKey, Scene
from kettle_media.rig.stills import MAX_UPLOAD_BYTES
from kettle_web.frame.engine import engine
from kettle_web.frame.form_fields import FileForm
from kettle_web.models import Rig
from kettle_web.rigs.addresses import scene_address
from kettle_web.rigs.library import keep_still
from kettle_web.rigs.services import change_rig, show_rig
from kettle_web.scenes import selectors
from kettle_web.scenes.changes import CHANGES, PICK_FIRST, Table, layout_inputs


def _rig_and_scene(slug: str, scene_id: str) -> tuple[Rig, Scene]:
    """A rig and its scene. Raises RigError where the scene is gone."""
    rig = get_object_or_404(Rig, slug=slug)
    found = next((s for s in rig.values.scenes if s.id == scene_id), None)
    if found is None:
        raise RigError(
            "This scene is not in the rig any more, so nothing changed. Undo brings it back.",
            "scene",
        )
    return rig, found


@require_safe
def scenes(request: HttpRequest, slug: str) -> HttpResponse:
    """The Scenes step: the default scene on the sheet."""
    rig = get_object_or_404(Rig, slug=slug)
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


@require_POST
def save(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """One form or button of the drawing table."""
    rig, scene = _rig_and_scene(slug, scene_id)
    # A button says in its one value what it does, and how: "align left".
    part, _, how = request.POST.get("part", "").partition(" ")
    values = rig.values
    selected = request.POST.getlist("layer")
    layers = tuple(x for x in scene.layers if x.id in selected)
    layers = tuple(sorted(layers, key=lambda x: selected.index(x.id)))
    if part not in CHANGES:
        raise RigError("This can't be set on the drawing table. Reload the page.", part)
    data: dict[str, Any] = _Given(request.POST, how)
    form = _form(request, rig, scene, layers, part)
    if form and not form.is_valid():
        return _page(request, rig, scene, selected, {part: form})
    data = form.cleaned_data if form else data
    change, words = CHANGES[part]
    try:
        if part == "mask_file":
            data = {"still": _mask_still(request, rig)}
        changed = change(Table(values, scene, layers), data)
    except EngineError:
        raise
    except KettleError as problem:
        return _refused(request, rig, scene, selected, part, form, problem)
    _keep(rig, scene, layers, changed, words)
    kept = [x.id for x in changed.scene(scene_id).layers]
    added = [x for x in kept if x not in [y.id for y in scene.layers]]
    now = added if part == "add" else [x for x in selected if x in kept]
    return redirect(scene_address(slug, scene_id, now, request.POST.get("section", "")))


class _Given(dict[str, str]):
    """What a button sent; what is missing is empty."""

    def __init__(self, post: Any, how: str) -> None:
        super().__init__({name: post.get(name, "") for name in post})
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


def _form(
    request: HttpRequest, rig: Rig, scene: Scene, layers: tuple[Any, ...], part: str
) -> forms.Form | None:
    """The form of a part that has one."""
    values = rig.values
    if part == "layout":
        return selectors.new_scene_form(values, request.POST)
    layer = layers[0] if layers else None
    if part in selectors.LAYER_FORMS and layer is None:
        raise RigError(PICK_FIRST, "layer")
    if part not in selectors.LAYER_FORMS + selectors.SCENE_FORMS:
        return None
    stills = list(rig.stills.all())
    return selectors.make_form(part, values, scene, layer, stills, request.POST)


def _refused(
    request: HttpRequest,
    rig: Rig,
    scene: Scene,
    selected: list[str],
    part: str,
    form: forms.Form | None,
    problem: KettleError,
) -> HttpResponse:
    field = getattr(problem, "field", "")
    if part == "mask_file":
        return _page(request, rig, scene, selected, None, str(problem), mask=True)
    if form is None or part == "layout":
        return _page(request, rig, scene, selected, None, str(problem))
    form.add_error(field if field in form.fields else None, str(problem))
    return _page(request, rig, scene, selected, {part: form})


def _keep(rig: Rig, scene: Scene, layers: tuple[Any, ...], changed: RigValues, words: str) -> None:
    """Keep a changed rig under words that say of what, and show it at once."""
    names = [rig.values.input(x.input_id).name for x in layers]
    what = names[0] if len(names) == 1 else f"{len(names)} layers" if names else ""
    where = f"{what} in {scene.name}" if what else scene.name
    change_rig(rig=rig, values=changed, words=f"{where}: {words}")
    show_rig(rig=rig)


@require_POST
def new(request: HttpRequest, slug: str) -> HttpResponse:
    """One more scene: from a starting layout, empty, or a copy."""
    rig = get_object_or_404(Rig, slug=slug)
    values, here = rig.values, request.POST.get("here", "")
    try:
        if "copy" in request.POST:
            changed = scene_changes.with_scene_copied(values, here)
        else:
            form = selectors.new_scene_form(values, request.POST)
            if not form.is_valid():
                raise RigError("Choose a starting layout and inputs of the list.", "layout")
            data = form.cleaned_data
            inputs = layout_inputs(data)
            changed = scene_changes.with_new_scene(values, "", data["layout"], inputs)
    except RigError as problem:
        scene = next((s for s in values.scenes if s.id == here), values.default_scene)
        return _page(request, rig, scene, [], None, str(problem))
    made = next(s for s in changed.scenes if s not in values.scenes)
    change_rig(rig=rig, values=changed, words=f"{made.name} made")
    show_rig(rig=rig)
    return redirect("scene", slug, made.id)


@require_POST
def delete(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """Delete a scene; undo brings it back."""
    rig, scene = _rig_and_scene(slug, scene_id)
    try:
        changed = scene_changes.without_scene(rig.values, scene_id)
    except RigError as problem:
        return _page(request, rig, scene, [], None, str(problem))
    here = rig.values.scenes.index(scene)
    change_rig(rig=rig, values=changed, words=f"{scene.name} deleted")
    messages.info(request, f"“{scene.name}” was deleted. Undo brings it back.")
    return redirect("scene", slug, changed.scenes[max(0, here - 1)].id)


@require_POST
def order(request: HttpRequest, slug: str) -> HttpResponse:
    """Move a scene to another place among the scenes."""
    rig = get_object_or_404(Rig, slug=slug)
    values, scene_id = rig.values, request.POST.get("scene", "")
    scene = values.scene(scene_id)
    by = {"left": -1, "right": 1}.get(request.POST.get("move", ""))
    try:
        place = values.scenes.index(scene) + by if by else int(request.POST.get("place", ""))
    except ValueError as error:
        raise RigError("This scene can't be moved there. Reload the page.", "scene") from error
    changed = scene_changes.with_scene_at(values, scene_id, place)
    change_rig(rig=rig, values=changed, words=f"{scene.name} moved")
    return redirect("scene", slug, request.POST.get("here", "") or scene_id)


@require_POST
def play(request: HttpRequest, slug: str, scene_id: str) -> HttpResponse:
    """Play the change-over from this scene to another one, on the sheet."""
    _, scene = _rig_and_scene(slug, scene_id)
    engine().ask("play_change", scene=scene.id, to=request.POST.get("to", ""))
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
        colour = engine().ask("pick_colour", scene=scene.id, layer=layer.id, x=x, y=y)
    except EngineError as problem:
        return _page(request, rig, scene, [layer.id], None, str(problem))
    table = Table(rig.values, scene, (layer,))
    data = vars(layer.colour_key or ColourKey(colour)) | {"on": True, "colour": colour}
    change, words = CHANGES["colour_key"]
    _keep(rig, scene, table.layers, change(table, data), words)
    return redirect(scene_address(slug, scene_id, [layer.id], "key"))
