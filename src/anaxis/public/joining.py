"""The cameras of an edit's shots, joined into one."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

from anaxis.core.derive import joined
from anaxis.core.time.rates import parse_rate
from anaxis.formats.editorial.cut_list import read_cut_list
from anaxis.formats.editorial.write import edit_files
from anaxis.library import derived
from anaxis.public.camera import Camera, made_camera


def join(
    edit: str | Path, cameras: Mapping[str, Camera], *, rate: str | Fraction = "24", extra: int = 0, **settings: Any
) -> Camera:
    """Join the cameras of the shots of an edit into one that cuts as the edit does.

    Parameters:
        edit: an OpenTimelineIO document or an EDL.
        cameras: by the names of the edit's clips.
        rate: what an EDL's timecodes count; an OpenTimelineIO document says it.
        extra: additional frames at both ends, for filters and motion blur.
        settings: of the join: ``first``, ``width_px``, ``height_px``, ``fit``, ``keep``, ``film_back``, ``gaps``, ``missing``, ``name``.

    Raises BadInput for an edit that cannot be read, a name that no clip has, or frames that a shot does not have.
    """
    path = Path(edit)
    read = read_cut_list(path, parse_rate(str(rate)))
    inputs = {name: camera._as_input(name) for name, camera in cameras.items()}
    laid = derived.laid_over(read, inputs, path.name)
    found = derived.join(read, laid, inputs, {"first": 1001, **settings}, None, (extra, extra))
    listed = [camera._listed(name) for name, camera in cameras.items()]
    made_of = found.settings.model_dump(mode="json")
    return made_camera(found.made, joined.KIND.label, made_of, listed, edit_files(found.settings), found.findings)
