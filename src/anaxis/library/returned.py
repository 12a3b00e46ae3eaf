"""A camera that came back: read off its file, numbered as it went out, measured and explained."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, NamedTuple

import numpy as np

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import Projection
from anaxis.core.camera.track import Track
from anaxis.core.checks.examine import take_camera
from anaxis.core.errors import BadInput
from anaxis.core.motion.edits import renumbered
from anaxis.core.proof.proof import Difference
from anaxis.core.recipe.model import Work
from anaxis.core.scene.landmarks import Landmarks
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import DEFAULT_IMAGE, Picture
from anaxis.core.typing import Archive, Floats
from anaxis.delivery.numbering import Numbering, nearest_sent, numberings, renumbered_back
from anaxis.delivery.options import USUAL, from_zero_up
from anaxis.delivery.shot_camera import ShotCamera
from anaxis.diagnosis.diagnose import Diagnosis, Explanation
from anaxis.diagnosis.returned import (
    CameBack,
    Compared,
    as_own_table,
    compared,
    explain,
    is_own_table,
    of_scene,
    of_table,
)
from anaxis.library.archive import scene_from_bytes
from anaxis.packages.model import Profile
from anaxis.standin.package import Seen, open_as_package


def table_came_back(name: str, data: Archive, profile: Profile, picture: Picture, meant: Track) -> CameBack:
    """A table in a package's own numbers; see :func:`anaxis.diagnosis.returned.of_table`."""
    with TemporaryDirectory(prefix="anaxis-return-") as folder:
        path = Path(folder) / name
        path.write_bytes(data)
        return of_table(path, profile, picture, meant)


def camera_came_back(scene: Archive, profile: Profile | None, meant: Track) -> CameBack:
    """A file's camera as it stands; see :func:`anaxis.diagnosis.returned.of_scene`."""
    return of_scene(scene_from_bytes(scene), None, profile, meant)


def came_back(
    file: Path, package: Profile | None, picture: Picture, meant: Track, camera: str | None, read: Callable[[Path], Scene]
) -> tuple[CameBack, list[str]]:  # fmt: skip
    """The camera of a file that came back, and what of it is a guess; ``read`` reads a file's scene, ``camera`` is one of several.
    Raises BadInput."""
    scene = None if is_own_table(file, package) else read(file)
    if scene is None or scene.columns is not None:
        if package is None:
            raise BadInput(f"{file.name} is a table in the numbers of a package: name the package with --profile.")
        own = package if scene is None else as_own_table(scene, package)
        return of_table(file, own, picture, meant), []
    unsaid = [w for w in ("up_axis", "metres_per_unit") if w in scene.guesses and package is None]
    notes = (
        [
            f"{file.name} does not state its {' and '.join(unsaid)}, which would be guesses: name the package with --profile."
        ]
        if unsaid
        else []
    )
    return of_scene(scene, camera, package, meant), notes


class Meant(NamedTuple):
    """A file's camera as it is meant, and how its picture is made."""

    work: Work
    picture: Picture

    @staticmethod
    def of(scene: Scene, camera: str | None, picture: Picture) -> Meant:
        """Raises BadInput."""
        return Meant(take_camera(scene, camera), picture)

    @property
    def sent(self) -> ShotCamera:
        """The camera as it goes out."""
        return ShotCamera(self.work.done, self.work.landmarks, self.picture)


def arrived_in(file: Path, package: Profile, image: Image | None, camera: str | None) -> Seen:
    """A delivered file as a package opens it, habits and all. Raises BadInput."""
    try:
        return open_as_package(file, package, image or DEFAULT_IMAGE, camera=camera)
    except BadInput:
        raise
    except Exception as error:
        raise BadInput(
            f"{file.name} cannot be opened as '{package.key}' would: it is damaged or has no camera. Export it again."
        ) from error


class WithArrived(NamedTuple):
    """A camera on the frames that it has in common with one that came back, how that one sees on them, in the first one's pixels,
    and by how many pixels it is off, (n,)."""

    camera: ShotCamera
    arrived: Projection
    deviation_px: Floats


def beside(camera: ShotCamera, scene: Scene, path: str | None, package: Profile | None) -> WithArrived:
    """A camera with one that came back in a file. Raises BadInput where they have no frame in common."""
    back = of_scene(scene, path, package, camera.track)
    found = compared(camera.track, camera.landmarks.shown(), camera.picture, back, package)
    index = np.flatnonzero(np.isin(np.round(camera.track.frames, 4), np.round(found.proof.frames, 4)))
    return WithArrived(camera.at_frames(index), found.arrived, found.proof.deviation_px)


class Explained(NamedTuple):
    """What happened to a camera in transit, and how far it is off; ``measured`` is None where no frame is in common."""

    diagnosis: Diagnosis
    measured: Compared | None


def usual_numbering(sent: ShotCamera, back: CameBack, package: Profile | None, format_key: str) -> Numbering:
    """The frame numbers by which a camera that came back is nearest to the one sent: its own, or those of a usual delivery."""
    among = [Numbering(float(sent.track.frames[0]))]
    if package is not None:
        among = numberings(sent.track, package, [(format_key, from_zero_up(USUAL, [sent], package))])
    return nearest_sent([sent], among, back, package)[1]


def in_sent_numbers(back: CameBack, numbering: Numbering, sent: Track) -> CameBack:
    """The returned camera, in the frame numbers of the one sent."""
    return renumbered_back(back, numbering, sent) if numbering.wanted else back


def explained(
    sent: ShotCamera, landmarks: Landmarks, above: Sequence[Track], numbering: Numbering, back: CameBack, package: Profile | None,
    typed: bool = False,
) -> Explained:  # fmt: skip
    """A camera that came back held against the one sent, which stands ``above`` its parents or a root, too; ``typed`` says that
    somebody typed its numbers."""
    meant, *bare = (renumbered(one, numbering.first) for one in (sent.track, *above))
    diagnosis = explain(meant, sent.picture, back, package, tuple(bare), typed)
    here = in_sent_numbers(back, numbering, sent.track)
    try:
        return Explained(diagnosis, compared(sent.track, landmarks, sent.picture, here, package))
    except BadInput:  # not one frame in common: the diagnosis still says why
        return Explained(diagnosis, None)


def diagnosis_document(
    explanations: Sequence[Explanation], is_explained: bool, differences: Sequence[Difference]
) -> dict[str, Any]:
    """What happened to a camera in transit, as plain JSON."""
    return {
        "explanations": [e.as_dict() for e in explanations],
        "explained": is_explained,
        "differences": [d._asdict() for d in differences],
    }
