"""Packages: the list, one package with its axes, rules and habits, two side by side, copy, edit, import, export."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse, Response
from markupsafe import Markup

from anaxis.app.packages import copy_package, keep_package, legal_key
from anaxis.app.roles import Role
from anaxis.app.typed_numbers import number_or_none
from anaxis.core.camera.lens import FITS
from anaxis.core.camera.track import Track
from anaxis.core.errors import BadInput
from anaxis.core.space.axes import (
    AXIS_NAMES,
    ORDERS,
    SIDES,
    Convention,
    axes_matrix,
    axis_name,
    axis_vector,
    handedness,
    turned,
)
from anaxis.diagnosis.calibration import learned
from anaxis.diagnosis.calibration_form import Needs, Returned, returned_from_document
from anaxis.diagnosis.calibration_kit import IMAGE, made_camera, write_start
from anaxis.formats import WRITTEN
from anaxis.formats.tables.layout import QUANTITIES
from anaxis.library.values import angles_in, mapping_between, numbers_in
from anaxis.packages import shipped_profiles
from anaxis.packages.habits import HABITS
from anaxis.packages.model import Profile, profile_from_dict, profile_from_text
from anaxis.store.packages import all_packages, free_key, get_package, shots_using, versions_of
from anaxis.web.access import OPEN, needs
from anaxis.web.drawings.axes import axes_drawing, axes_svg, axis_turn
from anaxis.web.drawings.habit import habit_svg
from anaxis.web.pages import Store, TypedForm, attachment, name_of_upload, page, row_number

router = APIRouter(prefix="/packages", dependencies=[needs(change=Role.LEAD)])
_MAX_PROFILE_BYTES = 100_000
_EXAMPLE_AT = 12
_MAX_FORM_BYTES = 5_000_000
_MAX_COLUMNS = 60
_CALIBRATED = tuple(f.key for f in WRITTEN if f.calibrates)


@router.get("")
def listed(request: Request, store: Store) -> Any:
    packages = all_packages(store)
    return page(request, "packages/index.html", packages=packages, shipped=set(shipped_profiles()), axes=axes_svg)


@router.get("/compare")
def compare(request: Request, store: Store, a: str = "yup-rh-cm", b: str = "zup-lh-cm") -> Any:
    """Two packages side by side: the turn between them, the matrix, and what to type."""
    one, other = get_package(store, a), get_package(store, b)
    found = mapping_between(one.convention, other.convention)
    return page(
        request, "packages/compare/index.html", packages=all_packages(store), one=one, other=other, found=found.found,
        place=found.position_lines, turn=found.rotation_lines,
        one_axes=axes_svg(one.convention, one.label), other_axes=axes_svg(other.convention, other.label), axis_turn=axis_turn(one.convention, other.convention),
    )  # fmt: skip


@router.post("/import")
def imported(store: Store, file: Annotated[UploadFile, File()]) -> Any:
    found = profile_from_text(file.file.read(_MAX_PROFILE_BYTES), file.filename or "the file")
    keep_package(store, found, f"imported from {file.filename}")
    return RedirectResponse(f"/packages/{found.key}", status_code=303)


@router.get("/calibrate")
def calibration(request: Request, store: Store) -> Any:
    return page(request, "packages/calibrate/index.html", formats=_CALIBRATED)


@router.get("/calibrate/start")
def calibration_files(format_key: str = "usd") -> Response:
    """The made camera, its points, the form and what to do with them, in one zip."""
    if format_key not in _CALIBRATED:
        raise BadInput(f"'{format_key}' is not a format of the test camera: choose one of {', '.join(_CALIBRATED)}.")
    out = io.BytesIO()
    with (
        TemporaryDirectory(prefix="anaxis-calibrate-") as folder,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive,
    ):
        for path in write_start(Path(folder), format_key):
            archive.write(path, path.name)
    headers = {"Content-Disposition": 'attachment; filename="calibration.zip"'}
    return Response(out.getvalue(), media_type="application/zip", headers=headers)


@router.post("/calibrate")
def calibrated(
    request: Request,
    store: Store,
    file: Annotated[UploadFile, File()],
    second: Annotated[UploadFile | None, File()] = None,
    third: Annotated[UploadFile | None, File()] = None,
    key: Annotated[str, Form()] = "",
    label: Annotated[str, Form()] = "",
) -> Any:
    """The forms that came back: the package learned and kept, with how sure each part of it is."""
    name = name_of_upload(file) or "the form"
    first = _form_in(file, "all")
    wanted = legal_key(key or label, "learned")
    assert first is not None
    found = learned(
        first, free_key(store, wanted), label.strip() or wanted, _form_in(second, "camera"), _form_in(third, "pixels")
    )
    keep_package(store, found.profile, f"learned from {name}", fresh=True)
    return page(request, "packages/learned/index.html", found=found, p=found.profile)


def _form_in(file: UploadFile | None, needs: Needs) -> Returned | None:
    if file is None or not file.filename:
        return None
    name = name_of_upload(file)
    try:
        document = json.loads(file.file.read(_MAX_FORM_BYTES).decode("utf-8"))
    except (UnicodeDecodeError, ValueError, RecursionError) as error:
        raise BadInput(f"{name} is not readable JSON: save it again.") from error
    return returned_from_document(document, name, needs)


@router.get("/{key}")
def one(request: Request, store: Store, key: str, number: int | None = None) -> Any:
    profile = get_package(store, key, number)
    example = numbers_in(_example(), IMAGE, profile)
    return page(
        request, "packages/one/index.html", p=profile, own=key not in shipped_profiles(), versions=versions_of(store, key), number=number,
        axes=axes_drawing(profile.convention.world, profile.convention.camera, profile.label, 240, to_turn=key not in shipped_profiles()),
        world=profile.world.model_dump(), camera=profile.camera.model_dump(), said_axes="", look=profile.convention.look_axis,
        right_handed=profile.convention.right_handed, column_choices=column_choices(), column_rows=_column_rows(profile), axis_names=AXIS_NAMES, orders=ORDERS, fits=FITS, kinds=HABITS,
        drawings=[habit_svg(h.code, h.params, profile.convention) for h in profile.habits], used=shots_using(store, key), example=example,
        packages=all_packages(store),
    )  # fmt: skip


def _example() -> Track:
    return made_camera().select_frames([_EXAMPLE_AT])  # type: ignore[arg-type]


@router.get("/{key}/turns")
def turns(request: Request, store: Store, key: str, order: str = "XYZ", signs: str = "+++") -> Any:
    """The example's angles in another order or with other signs, before it is kept."""
    if order not in ORDERS or not re.fullmatch(r"[+-]{3}", signs):
        raise BadInput("Choose an order such as XYZ and three signs.")
    profile = get_package(store, key)
    return page(request, "packages/turns.html", angles=angles_in(_example(), profile.convention, order, signs)[0])


@router.get("/{key}/axes")
def axes(request: Request, store: Store, key: str, side: str = "", arm: str = "", towards: str = "") -> Any:
    """The axes as they are chosen or turned, before they are kept; a wrong handedness is refused with the reason."""
    profile = get_package(store, key)
    chosen = {
        s: {k: request.query_params.get(f"{s}_{k}", getattr(getattr(profile, s), k)) for k in SIDES}
        for s in ("world", "camera")
    }
    said, drawing = "", Markup("")
    try:
        both = {s: axes_matrix(**chosen[s], of_what=s) for s in ("world", "camera")}
        if arm and side in both:
            both[side] = turned(both[side], arm, towards)
            chosen[side] = {k: axis_name(both[side][:, i]) for i, k in enumerate(SIDES)}
        drawing = axes_drawing(both["world"], both["camera"], profile.label, 240, to_turn=True)
        Convention(world=both["world"], camera=both["camera"])
    except BadInput as error:
        said = error.sentence
    look = axis_name(-axis_vector(chosen["camera"]["back"]))
    return page(
        request, "packages/axes.html", p=profile, own=True, world=chosen["world"], camera=chosen["camera"], axes=drawing, said_axes=said,
        axis_names=AXIS_NAMES, look=look, right_handed=not said and handedness(both["world"]) > 0,
    )  # fmt: skip


@router.post("/{key}/copy")
def copied(store: Store, key: str, label: Annotated[str, Form()] = "", new_key: Annotated[str, Form()] = "") -> Any:
    made = copy_package(store, key, label, new_key)
    return RedirectResponse(f"/packages/{made.key}", status_code=303)


@router.post("/{key}")
def edited(store: Store, key: str, form: TypedForm) -> Any:
    """Every field of the form as the package's next version. A field that cannot be is refused with the reason."""
    profile = get_package(store, key)
    document = changed_document(profile, form)
    made = profile_from_dict(document, f"The package '{key}'")
    made_from = number_or_none(form.get("made_from", ""), "the version this was made from")
    keep_package(
        store, made, form.get("change", "") or "edited", made_from=None if made_from is None else int(made_from)
    )
    return RedirectResponse(f"/packages/{key}", status_code=303)


def changed_document(profile: Profile, form: dict[str, str]) -> dict[str, Any]:
    """A profile's document after a form; raises BadInput for a habit that cannot be."""
    document: dict[str, Any] = profile.model_dump(mode="json")
    action = form.get("action", "fields")
    if action == "fields":
        for side in ("world", "camera"):
            document[side] = {k: form.get(f"{side}_{k}", document[side][k]) for k in SIDES}
        document["label"] = form.get("label", "").strip() or profile.label
        document["notes"] = form.get("notes", "")[:4000]
        document["metres_per_unit"] = form.get("metres_per_unit", "")
        document["rotation"] = {
            "order": form.get("order", "XYZ"),
            "signs": [1 if s == "+" else -1 for s in form.get("signs", "+++")],
        }
        lens = {
            k: form[f"lens_{k}"]
            for k in ("shown", "film_unit", "fit", "offset_unit", "reads_gltf_zoom")
            if f"lens_{k}" in form
        }
        signs = [1 if s == "+" else -1 for s in form.get("offset_signs", "++")]
        document["lens"] |= lens | {"offset_signs": signs}
        time = {"rate": "rate", "first_frame": "first_frame", "clips_from_zero": "time_clips_from_zero"}
        document["time"] |= {k: form[name] for k, name in time.items() if name in form}
        return document
    if action == "table":
        return document | {"table": _table(form)}
    habits = list(document["habits"])
    if action == "add":
        kind = HABITS.get(form.get("code", ""))
        if kind is None:
            raise BadInput("Choose a habit to add.")
        habits.append({"code": kind.code, **{f.name: form.get(f"habit_{f.name}", f.default) for f in kind.fields}})
    else:
        at = row_number(form.get("index", ""))
        if at is None or at >= len(habits):
            raise BadInput("That habit is no longer there: reload the page.")
        entry = habits.pop(at)
        if action in ("up", "down"):
            habits.insert(max(0, min(len(habits), at + (-1 if action == "up" else 1))), entry)
        elif action in ("on", "off"):
            habits.insert(at, entry | {"on": action == "on"})
        elif action != "out":
            raise BadInput("The form cannot be read: reload the page and try again.")
    return document | {"habits": habits}


def column_choices() -> list[tuple[str, str]]:
    """What a column may hold and in which unit: ("rotation_x:deg", "turn about X, deg")..."""
    return [
        (f"{key}:{unit}", f"{quantity.label}, {unit}" if unit else quantity.label)
        for key, quantity in QUANTITIES.items()
        for unit in quantity.units
    ]


def _column_rows(profile: Profile) -> list[tuple[str, int]]:
    """The choice and sign of each column, and some that are open."""
    held = profile.table.columns if profile.table else ()
    rows = [(f"{c.quantity}:{c.unit or next(iter(QUANTITIES[c.quantity].units))}", int(c.sign)) for c in held]
    return [*rows, *[("", 1)] * (4 if rows else 12)][:_MAX_COLUMNS]


def _table(form: dict[str, str]) -> dict[str, Any] | None:
    """The layout that the form's columns make, those left open left out; None where every one is."""
    columns = []
    for i in range(_MAX_COLUMNS):
        quantity, _, unit = form.get(f"column_{i}", "").partition(":")
        if quantity:
            columns.append({"quantity": quantity, "unit": unit, "sign": -1 if form.get(f"sign_{i}") == "-1" else 1})
    if not columns:
        return None
    return {"columns": columns, "headings": form.get("headings") == "true", "separator": form.get("separator", "comma")}


@router.get("/{key}/habit")
def habit_form(request: Request, store: Store, key: str, code: str = "") -> Any:
    """The fields of one habit, with its drawing."""
    if code not in HABITS:
        raise BadInput("Choose a habit of the list.")
    kind = HABITS[code]
    params = {f.name: f.default for f in kind.fields}
    drawing = habit_svg(code, params, get_package(store, key).convention)
    newest = versions_of(store, key)[0].number if key not in shipped_profiles() else ""
    return page(request, "packages/habit.html", kind=kind, drawing=drawing, key=key, newest=newest)


@router.get("/{key}/profile.json")
def exported(store: Store, key: str) -> Response:
    document = get_package(store, key).model_dump(mode="json")
    return JSONResponse(document, headers=attachment(f"{key}.json"))


schema_router = APIRouter(dependencies=[OPEN])


@schema_router.get("/schema/profile.json")
def schema() -> dict[str, Any]:
    """The published schema of a profile's file."""
    return json.loads(json.dumps(Profile.model_json_schema()))
