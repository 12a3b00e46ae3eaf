"""A package's axes, unit, rotation order and signs from what came back of the made camera, every possibility tried."""

from itertools import permutations, product

import numpy as np

from anaxis.core.camera.lens import FITS
from anaxis.core.camera.track import Lens, Track
from anaxis.core.errors import BadInput
from anaxis.core.space.axes import ORDERS, Convention, axis_name
from anaxis.core.space.rotation import matrices_from_angles
from anaxis.core.typing import Floats
from anaxis.diagnosis.calibration_form import Returned
from anaxis.diagnosis.calibration_kit import FIT, POINTS


def axes_document(matrix: Floats) -> dict[str, str]:
    return {k: axis_name(matrix[:, i]) for i, k in enumerate(("right", "up", "back"))}


def _signed_permutations() -> Floats:
    out = []
    for order, signs in product(permutations(range(3)), product((1.0, -1.0), repeat=3)):
        m = np.zeros((3, 3))
        m[range(3), order] = signs
        out.append(m)
    return np.array(out)


AXES = _signed_permutations()
SIGNS: tuple[tuple[int, int, int], ...] = tuple((a, b, c) for a in (1, -1) for b in (1, -1) for c in (1, -1))


def world_of(returned: Returned) -> tuple[Floats, float, float]:
    """World axes and metres a unit from where the points stand; how far off they are in metres."""
    names = list(returned.points)
    ours = np.array([POINTS[n] for n in names])
    theirs = np.array([returned.points[n] for n in names])
    turned = np.einsum("kij,nj->kni", AXES, ours)
    size = (turned * theirs).sum(axis=(1, 2)) / (ours * ours).sum()
    off = np.abs(turned * size[:, None, None] - theirs).max(axis=(1, 2)) / np.maximum(np.abs(size), 1e-12)
    off = np.where(size > 0, off, np.inf)
    best = int(np.argmin(off))
    if off[best] > 0.25:
        raise BadInput(
            f"The points fit no axes: one is wrong by {off[best]:.2g} m. Check their positions in the numbers of the package."
        )
    unit = 1.0 / float(size[best])
    known = next((u for u in (0.001, 0.01, 0.0254, 0.1, 0.3048, 1.0, 10.0, 100.0) if abs(unit / u - 1) < 1e-3), unit)
    return AXES[best], known, float(off[best])


def camera_of(
    returned: Returned, world: Floats, unit: float
) -> tuple[tuple[Convention, str, float], list[tuple[str, str]]]:
    """Order, signs, camera axes and fit that put the points where they were seen; and the rivals that fit as well."""
    hand = round(float(np.linalg.det(world)))
    frames = [f for f in returned.pixels if np.abs(returned.frames - f).min() < 1e-3]
    if not frames:
        raise BadInput("The pixels and the numbers share no frame: fill in both for the same frames.")
    at = np.array([int(np.argmin(np.abs(returned.frames - f))) for f in frames])
    target = Target(returned, frames, returned.position[at] @ world * unit, returned.lens.select_frames(at))
    cameras = np.array([c for c in AXES if round(float(np.linalg.det(c))) == hand])
    ways: list[tuple[str, tuple[int, int, int]]] = [(o, s) for o in ORDERS for s in SIGNS]
    turns = np.array([matrices_from_angles(returned.rotation_deg[at], o, s) for o, s in ways])
    canonical = np.einsum("ji,wnjk,ckl->wcnil", world, turns, cameras)
    off = target.off(canonical, FIT)
    plain = np.array([(o != "XYZ") + sum(v < 0 for v in s) for o, s in ways])
    order = np.lexsort((np.repeat(plain, len(cameras)), np.round(off.ravel(), 3)))[:40]
    # The fit changes the picture little beside a wrong axis: it is settled for the ways that are nearly right.
    w, c = np.unravel_index(order, off.shape)
    finer = [
        (float(gap), int(plain[w[i]]), int(w[i]), int(c[i]), fit)
        for fit in FITS
        for i, gap in enumerate(target.off(canonical[w, c][:, None], fit)[:, 0].tolist())
    ]
    least = min(found[0] for found in finer)
    # Numbers with few decimals fit nothing to the last digit: of all that fit as well the plainest is taken.
    near = max(least + 0.02, 1.5 * least)
    finer.sort(key=lambda found: (found[0] > near, FITS.index(found[4]), found[1], found[0]))
    gap, _, way, camera, fit = finer[0]
    rivals = {(f"{ways[x]}{y}", f) for g, _, x, y, f in finer if g <= near}
    return (Convention(world, cameras[camera], unit, *ways[way]), fit, gap), sorted(rivals)


class Target:
    """Where points were seen, and how far from there a camera at known places would see them."""

    def __init__(self, returned: Returned, frames: list[float], place_m: Floats, lens: Lens) -> None:
        names = sorted({n for f in frames for n in returned.pixels[f] if n in POINTS})
        if not names:
            raise BadInput("The pixels name no point of the kit.")
        nowhere = np.full(2, np.nan)
        self._pixels = np.array([[returned.pixels[f].get(n, nowhere) for n in names] for f in frames])
        self._away = np.array([POINTS[n] for n in names])[None] - place_m[:, None]
        self._lens, self._image = lens, returned.image

    def off(self, rotation: Floats, fit: str) -> Floats:
        """The root mean square distance in px of rotations (a, b, n, 3, 3), (a, b); behind the camera is far off."""
        lens, used = self._lens, self._lens.used(self._image, fit)
        seen = np.einsum("nkj,abnji->abnki", self._away, rotation)
        depth = -seen[..., 2]
        with np.errstate(divide="ignore", invalid="ignore"):
            x = self._image.width_px * (
                0.5
                + ((lens.focal_mm[:, None] * seen[..., 0]) / depth - lens.offset_x_mm[:, None]) / used.width_mm[:, None]
            )
            y = self._image.height_px * (
                0.5
                - ((lens.focal_mm[:, None] * seen[..., 1]) / depth - lens.offset_y_mm[:, None])
                / used.height_mm[:, None]
            )
        gap = np.hypot(x - self._pixels[..., 0], y - self._pixels[..., 1])
        known = np.isfinite(self._pixels[..., 0])
        gap = np.where((depth > 0) & np.isfinite(gap), np.minimum(gap, 1e4), 1e4)
        return np.asarray(np.sqrt(np.where(known, gap * gap, 0.0).sum(axis=(2, 3)) / max(1, int(known.sum()))))


def track_of(returned: Returned, convention: Convention) -> Track:
    turn = matrices_from_angles(returned.rotation_deg, convention.order, convention.signs)
    return Track(
        "returned",
        returned.frames,
        returned.rate,
        convention.position_to_canonical(returned.position),
        convention.rotation_to_canonical(turn),
        returned.lens,
    )
