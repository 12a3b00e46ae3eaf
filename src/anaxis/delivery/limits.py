"""What a format cannot hold of a camera, said before anybody misses it."""

from __future__ import annotations

import numpy as np

from anaxis.core.camera.track import lens_moves
from anaxis.core.outgoing import Outgoing
from anaxis.core.proof.precision import single_precision_bound_px
from anaxis.core.time.rates import rate_label
from anaxis.delivery.plate_maps import MOST_PAIRS, pairs_along, stretches_of
from anaxis.formats import format_of
from anaxis.formats.collada.write import NEAREST_M
from anaxis.formats.file_axes import file_axes
from anaxis.formats.format import Format


def limits_of(format_key: str, outgoing: Outgoing, reads_gltf_zoom: bool = False) -> tuple[str, ...]:
    """Sentences about what does not go into the file, and what to do there instead."""
    track, lens, out, of = outgoing.track, outgoing.track.lens, [], format_of(format_key)
    if format_key == "alembic":
        axes = file_axes("alembic", outgoing.convention)
        out.append(
            f"Alembic states no axes, unit or rate: set on import: {axes.up} up, {axes.unit_m:g} m a unit and "
            f"{rate_label(track.rate)} frames a second."
        )
        out += _unstated_in_alembic(outgoing)
    out += _unstated_clips(of, outgoing)
    if track.distortion is not None and format_key != "json":
        maps = (
            "with the maps that distort renders to the plate"
            if pairs_along(track)
            else f"but not the maps: this lens needs {len(stretches_of(track))} pairs over the shot, and the zip holds up to {MOST_PAIRS} . Write the maps on Lens, or with 'anaxis st-map make --sequence'"
            ""
        )
        out.append(
            "The camera is delivered without distortion, for the undistorted plate. The zip has the distortion,"
            f" {maps}."
        )
    if not of.film_back:
        x, y = (float(np.abs(v).max()) for v in (lens.offset_x_mm, lens.offset_y_mm))
        steps = max(float(np.ptp(lens.offset_x_mm)), float(np.ptp(lens.offset_y_mm))) > 1e-9
        if max(x, y) > 1e-9 and steps:
            out.append(
                f"{of.unversioned} stores no film back offset, and this one changes over the frames (up to {x:.4f} mm right, {y:.4f} mm up): a single typed number cannot replace it; choose OpenUSD or Alembic."
                ""
            )
        elif max(x, y) > 1e-9:
            out.append(
                f"{of.unversioned} stores no film back offset: type {lens.offset_x_mm[0]:.4f} mm right and {lens.offset_y_mm[0]:.4f} mm up in the package, or choose OpenUSD or Alembic."
                ""
            )
        if lens_moves(track) and not (format_key == "gltf" and reads_gltf_zoom):
            focal = lens.focal_mm
            out.append(
                f"The lens moves, {focal.min():.4g} to {focal.max():.4g} mm, which glTF stores in an extension that hardly any package reads: it counts as missing. Key it by hand ('anaxis values' lists it), or choose OpenUSD or Alembic."
                ""
                if format_key == "gltf"
                else "The lens moves, which COLLADA stores as an animated field of view. Some readers drop it: check the last frame in the package."
            )
    if format_key == "collada" and (lens.near_m < NEAREST_M).any():
        out.append(
            f"The near plane is at {lens.near_m.min():g} m, which makes some readers of COLLADA divide by zero: Anaxis writes {NEAREST_M:g} m."
        )
    if format_key in ("usd", "alembic") and max(np.ptp(lens.film_width_mm), np.ptp(lens.film_height_mm)) > 1e-9:
        out.append(
            f"The film back changes over the frames, {lens.film_width_mm.min():.3f} to {lens.film_width_mm.max():.3f} mm wide: many importers read it "
            "once, on the first frame. Where it was joined shots, a common film back shows the same picture."
        )
    if of.single_precision:
        bound = float(
            single_precision_bound_px(
                track, outgoing.image, outgoing.fit, outgoing.landmarks.position_m, outgoing.zero_frame
            ).max()
        )
        if bound > 0.01:
            out.append(
                f"glTF is single precision, which can cost {bound:.2g} px here (from distance to the origin, nearest points and length): place the camera closer to the origin, or choose OpenUSD."
                ""
            )
    return tuple(out)


def _unstated_in_alembic(outgoing: Outgoing) -> list[str]:
    """An Alembic camera has every number of a lens: what stands in the file for focus and stop that are not stated."""
    lens = outgoing.track.lens
    focus_or_stop = [w for w, v in (("focus distance", lens.focus_m), ("stop", lens.fstop)) if np.isnan(v).any()]
    if not focus_or_stop:
        return []
    every = all(np.isnan(v).all() or np.isfinite(v).all() for v in (lens.focus_m, lens.fstop))
    return [
        f"The camera states no {' and no '.join(focus_or_stop)}{'' if every else ' on some frames'}, and Alembic always stores one: Anaxis writes 0, which shows no depth of field. Set it in the package if needed."
        ""
    ]


def _unstated_clips(of: Format, outgoing: Outgoing) -> list[str]:
    # In Alembic they are the library's own, in units.
    lens, factor = outgoing.track.lens, outgoing.convention.metres_per_unit if of.key == "alembic" else 1.0
    written = zip(("near", "far"), (lens.near_m, lens.far_m), of.clips_m, strict=True)
    there = [(name, value * factor) for name, v, value in written if value is not None and np.isnan(v).all()]
    if not there:
        return []
    names, values = " and no ".join(f"{n} clip" for n, _ in there), " and ".join(f"{v:g} m" for _, v in there)
    one = len(there) == 1
    return [
        f"The camera states no {names}, and {of.unversioned} always holds {'one' if one else 'them'}: {values} "
        f"stand{'s' if one else ''} in the file. Set {'it' if one else 'them'} there."
    ]
