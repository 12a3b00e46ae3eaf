"""A camera and what is done to it. Cameras never change: every change gives another camera."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from anaxis.core.camera.lens import Image
from anaxis.core.camera.track import Lens
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.recipe.documents import recipe_document, recipe_from_document
from anaxis.core.recipe.effects import picture_after
from anaxis.core.recipe.model import Recipe
from anaxis.core.recipe.operations import kind_of
from anaxis.core.recipe.replay import inserted
from anaxis.core.scene import nodes
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.picture import Picture, picture_of
from anaxis.core.typing import Floats
from anaxis.formats import read_file
from anaxis.public.operations import Operations
from anaxis.public.origin import Origin

if TYPE_CHECKING:  # loaded when first used: a camera that is only looked at needs none of them
    from anaxis.core.derive.derived import Derived, Input
    from anaxis.core.image_plane import Pictures
    from anaxis.library.plate_of_camera import OverscanReport, PlateOfCamera
    from anaxis.library.sending import Frames, GoingOut
    from anaxis.packages.model import Profile
    from anaxis.public.values import Values
    from anaxis.public.written import Leaving, Written


@dataclass(frozen=True, eq=False)
class Camera(Operations):
    """One camera of a file with its recipe. Made by :func:`read`, :func:`join`, :meth:`held` and :meth:`framing`.

    All numbers are canonical: metres, Y up, right-handed, looking along -Z, frames of the camera's own rate. Arrays have one row for
    each of its n frames.
    """

    _scene: nodes.Scene
    path: str
    _recipe: Recipe
    _stated: Picture
    origin: Origin
    _sets: Mapping[str, nodes.Scene] = field(default_factory=lambda: MappingProxyType({}))
    _pictures: Pictures | None = None
    _noticed: tuple[Finding, ...] = ()

    def __repr__(self) -> str:
        done = f", {len(self._recipe)} operation{'s' * (len(self._recipe) != 1)}" if self._recipe else ""
        return f"<Camera {self.path} of {self.origin.name}{done}>"

    # What it is

    @property
    def name(self) -> str:
        return self._going.work.done.name

    @property
    def frames(self) -> Floats:
        """Frame numbers, (n,)."""
        return self._going.work.done.frames

    @property
    def rate(self) -> Fraction:
        """Rate, frames/s, exactly."""
        return self._going.work.done.rate

    @property
    def position_m(self) -> Floats:
        """Where it is on every frame, (n, 3) metres."""
        return self._going.work.done.position_m

    @property
    def rotation(self) -> Floats:
        """Its axes on every frame as the columns of matrices, (n, 3, 3)."""
        return self._going.work.done.rotation

    @property
    def lens(self) -> Lens:
        """Its lens on every frame, (n,) each: ``focal_mm``, ``film_width_mm``, ``focus_m``, ``fstop`` and so on."""
        return self._going.work.done.lens

    @property
    def landmarks(self) -> Landmarks:
        """Names, and places (1, m, 3) or (n, m, 3) in metres."""
        return self._going.work.landmarks

    @cached_property
    def _picture(self) -> Picture:
        """The picture after the recipe, which may take a part of the one stated."""
        return picture_after(self._stated, self._recipe)

    @property
    def resolution(self) -> tuple[int, int]:
        """The picture's width and height in pixels."""
        return self._picture.image.width_px, self._picture.image.height_px

    @property
    def fit(self) -> str:
        """How the picture lies in the film back: width, height, inside, outside or stretch."""
        return self._picture.fit

    @property
    def recipe(self) -> list[dict[str, Any]]:
        """What is done to it, as plain JSON."""
        return recipe_document(self._recipe)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What every check noticed about it, its file's findings included. Raises BadInput where it cannot be used."""
        return (*self._noticed, *self._going.findings)

    @cached_property
    def _going(self) -> GoingOut:
        return self._goes_out(1, None)

    def _goes_out(self, samples: int, expect: Frames | None) -> GoingOut:
        from anaxis.library.sending import going_out

        found = going_out(self._scene, self.path, self._recipe, self._picture, samples, expect, self._set)
        return found._replace(
            leaving=replace(found.leaving, pictures=self._pictures), findings=[*self._noticed, *found.findings]
        )

    def _leaving(self, samples: int = 1, expect: Frames | None = None) -> Leaving:
        """The camera as it goes out, with the samples between frames that its file has where several a frame are asked for."""
        from anaxis.public.written import Leaving

        usual = samples == 1 and expect is None
        return Leaving(self._going if usual else self._goes_out(samples, expect), self.origin)

    def _set(self, sha256: str) -> nodes.Scene:
        if sha256 not in self._sets:
            raise BadInput("The set geometry of the recipe is missing: add it with with_set().")
        return self._sets[sha256]

    # What is done to it

    def _with_operation(self, code: str, params: dict[str, Any]) -> Camera:
        return replace(self, _recipe=inserted(self._recipe, kind_of(code).operation(params)))

    def with_recipe(self, operations: Sequence[Mapping[str, Any]]) -> Camera:
        """The camera with another recipe: a list of ``{"code", "params", "on"}``, as :attr:`recipe` gives it and docs/operations.md
        describes it. Raises BadInput that names the entry at fault."""
        return replace(self, _recipe=recipe_from_document([dict(o) for o in operations]))

    def retimed(self, rate: float | str | Fraction, keep: str = "time") -> Camera:
        """At another rate, keeping the ``time`` (new frames are drawn between the samples) or the ``frames``."""
        return self._with_operation("rate", {"rate": str(rate), "keep": keep})

    def trimmed(self, first: float, last: float) -> Camera:
        """Only the frames from ``first`` to ``last``."""
        return self._with_operation("trim", {"first": float(first), "last": float(last)})

    def with_picture(self, width_px: int, height_px: int, pixel_aspect: float = 1.0, fit: str | None = None) -> Camera:
        """With another picture, and another ``fit`` in the film back where one is given: what a file does not state is a guess."""
        return replace(self, _stated=picture_of(self._scene, Image(width_px, height_px, pixel_aspect), fit))

    def with_set(self, path: str | Path, up_axis: str | None = None, metres_per_unit: float | None = None) -> Camera:
        """With the set of another file, of any format that is read, OBJ too; ``up_axis`` and ``metres_per_unit`` where it does not
        state them. Raises BadInput where the file cannot be read."""
        path = Path(path)
        scene, sha256 = read_file(path), hashlib.sha256(path.read_bytes()).hexdigest()
        params = {"sha256": sha256, "name": path.name, "up_axis": up_axis, "metres_per_unit": metres_per_unit}
        made = self._with_operation("set_add", {k: v for k, v in params.items() if v is not None})
        return replace(made, _sets=MappingProxyType({**self._sets, sha256: scene}))

    def with_plate(self, path: str | Path) -> Camera:
        """With the pictures for an image plane: a folder, one of its files, or name.####.exr. Raises BadInput."""
        from anaxis.sandbox.plates import pictures_on_plane

        return replace(self, _pictures=pictures_on_plane(Path(path)))

    # What it is elsewhere

    def values(self, package: str | Profile, first: float | None = None, last: float | None = None) -> Values:
        """The camera in a package's own numbers, as :class:`Values`. Raises BadInput for a package that is not known."""
        from anaxis.library.values import numbers_of_camera
        from anaxis.packages import find_profile
        from anaxis.public.values import Values

        profile, work = find_profile(package), self._going.work
        numbers = numbers_of_camera(work.done, work.landmarks, self._picture, profile)
        return Values.of(numbers, profile, first, last)

    def write(
        self, package: str | Profile, format: str, out: str | Path, *, bundle: bool = False, name: str | None = None,
        expect: Frames | None = None, force: bool = False, **options: Any,
    ) -> Written:  # fmt: skip
        """Write the camera for a package into the folder ``out`` and prove it by opening the file again as the package would.

        ``package``, ``format`` and all others are those of :func:`anaxis.write`, which writes several at once. A camera that does
        not match is written all the same: look at :attr:`Written.matches`. Raises BadInput, and then nothing is written.
        """
        from anaxis.delivery.options import options_of
        from anaxis.public.written import Order, write_leaving

        asked = options_of(options)
        order = Order(False, bundle, name, expect, force, asked)
        return write_leaving([self._leaving(asked.samples, expect)], [package], [format], Path(out), order)[0]

    def overscan(self, multiple: int = 2, tight: bool = False) -> OverscanReport:
        """How much more than the plate is to be rendered, for the distortion of the camera's plate."""
        return self._plate.overscan_report(multiple, tight)

    def st_maps(
        self, out: str | Path, *, frame: float | None = None, overscan: bool = True, force: bool = False
    ) -> dict[str, Path]:
        """Write the ST maps that ``undistort`` the plate and ``distort`` a render onto it, for one frame, the first where none is
        named. The undistorted picture is as large as the render must be, or as the plate without ``overscan``. Raises BadInput."""
        from anaxis.library.plate_of_camera import MapsOrder, write_maps

        stem = f"{Path(self.origin.name).stem}.{self.name}"
        maps = write_maps(self._plate, Path(out), stem, MapsOrder(frame, whole_plate=not overscan, force=force))
        return {kind: Path(out) / one["file"] for kind, one in maps.worst.items()}

    @property
    def _plate(self) -> PlateOfCamera:
        from anaxis.library.plate_of_camera import PlateOfCamera

        return PlateOfCamera(self._going.work.done, self._picture)

    # What is made of it

    def held(self, at: float, overscan: str = "", name: str = "") -> Camera:
        """A projection camera: this one held at a frame, with as much ``overscan`` as a delivery's. Raises BadInput for a frame that
        it does not have."""
        from anaxis.core.derive import held
        from anaxis.library import derived

        found = derived.hold(self._as_input(held.SHOT), {"at": at, "overscan": overscan, "name": name})
        return made_camera(
            found.made, held.KIND.label, found.settings.model_dump(mode="json"), [self._listed(held.SHOT)]
        )

    def framing(self, objects: Sequence[str], plate_px: tuple[int, int] = (4096, 2048), **settings: Any) -> Camera:
        """An ordinary camera that stands in this one of a 360-degree plate and frames ``objects``, landmarks or pieces of the set.

        Settings are those of docs/operations.md's framing camera: ``border``, ``border_in``, ``view``, ``width_px``,
        ``height_px``, ``plate``, ``name``. Raises BadInput.
        """
        from anaxis.core.derive import framed
        from anaxis.library import derived

        source = self._as_input(framed.PLATE_CAMERA, tuple(objects))
        wanted = {"objects": list(objects), "width_px": 1920, "height_px": 1080, **settings}
        found = derived.frame(source, Image(*plate_px), wanted)
        settings = found.settings.model_dump(mode="json")
        return made_camera(found.made, framed.KIND.label, settings, [self._listed(framed.PLATE_CAMERA)])

    def _as_input(self, role: str, objects: tuple[str, ...] = ()) -> Input:
        """The camera as one that others are made of."""
        from anaxis.library import derived

        return derived.input_of_work(role, self._scene, self._going.work, self._picture, objects)

    def _listed(self, role: str) -> dict[str, Any]:
        """The camera in a list of inputs, as a manifest has it."""
        return {"role": role, "file": self.origin.name, "sha256": self.origin.sha256, "camera": self.path}


def made_camera(
    made: Derived, label: str, settings: dict[str, Any], inputs: Sequence[dict[str, Any]], along: Mapping[str, bytes] | None = None,
    findings: Sequence[Finding] = (),
) -> Camera:  # fmt: skip
    """A camera that was made of others."""
    from anaxis.core.derive.derived import scene_of
    from anaxis.delivery.transfer_sheet import MadeFrom

    scene = scene_of(made, made.track.name)
    from_ = MadeFrom(label, settings, tuple(inputs), dict(along or {}))
    origin = Origin(from_.kind, from_.sha256, from_)
    return Camera(scene, scene.camera().path, (), picture_of(scene, None, None), origin, _noticed=tuple(findings))
