"""What a hand-held tracker recorded, made a camera: its jumps found, its settings, its findings."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from anaxis.core.checks.examine import examine
from anaxis.core.checks.recorded import guesses_left, recorded_findings
from anaxis.core.errors import BadInput
from anaxis.core.findings import Finding
from anaxis.core.motion.recorded import RecordingSettings, Taken, settings_of, taken, usual_settings
from anaxis.core.motion.samples import Gap, Samples, gaps_of, samples_in_scene
from anaxis.core.motion.tracking_jumps import Jump, jumps_of
from anaxis.core.scene.landmarks import legal_name
from anaxis.core.scene.nodes import Scene
from anaxis.core.scene.picture import Picture


class Recorded(NamedTuple):
    """Samples as they were measured, with the tracking jumps found in them."""

    samples: Samples
    jumps: list[Jump]

    @staticmethod
    def of(samples: Samples) -> Recorded:
        return Recorded(samples, jumps_of(samples))

    @property
    def gaps(self) -> list[Gap]:
        return gaps_of(self.samples)

    @property
    def usual(self) -> RecordingSettings:
        """What a person starts from."""
        return usual_settings(self.samples, self.jumps)

    def camera(self, settings: RecordingSettings, name: str) -> Taken:
        """The camera of the recording. Raises BadInput."""
        return taken(self.samples, self.jumps, settings, name)


class RecordedCamera(NamedTuple):
    """A file's recording made a camera, by which settings, and what was noticed about it."""

    recorded: Recorded
    path: str
    settings: RecordingSettings
    made: Taken
    findings: list[Finding]


def recorded_camera(
    scene: Scene, camera: str | None, picture: Picture, wanted: Mapping[str, Any], heal: str, name: str
) -> RecordedCamera:
    """A camera of what a file recorded; ``wanted`` are settings (the aspect the usual one where it names none), ``heal`` says
    which jumps to remove: all, none, or their numbers from 1 with commas. Raises BadInput."""
    node = scene.camera(camera)
    found = Recorded.of(samples_in_scene(scene, node.path, picture.image, picture.fit))
    places = _places(heal, [j.place for j in found.jumps])
    settings = settings_of({"aspect": found.usual.aspect, **wanted, "heal": places})
    made = found.camera(settings, legal_name(name or node.name, set()))
    report = examine(scene, only=node.path)[0]
    findings = recorded_findings(made, settings.gaps, node.path) + guesses_left(report.findings, scene.in_seconds)
    return RecordedCamera(found, node.path, settings, made, findings)


def _places(heal: str, found: list[int]) -> list[int]:
    if heal in ("all", "none"):
        return found if heal == "all" else []
    out = []
    for text in heal.split(","):
        if not text.strip().isdecimal() or not 1 <= int(text) <= len(found):
            raise BadInput(f"--heal {heal}: write all, none, or numbers of jumps; the recording has {len(found)}.")
        out.append(found[int(text) - 1])
    return out
