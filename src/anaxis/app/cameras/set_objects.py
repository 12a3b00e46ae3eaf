"""The objects of a camera's set: listed, chosen, and measured as they would arrive in a package."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import BaseModel, Field

from anaxis.app.cameras.edit import add_operations
from anaxis.app.cameras.scene_report import camera_of_version
from anaxis.app.context import Context
from anaxis.core.errors import BadInput
from anaxis.core.motion.set_objects import ObjectChoice
from anaxis.core.recipe.model import Operation
from anaxis.library.set_listing import SetListing, set_listing
from anaxis.store.models import Version
from anaxis.store.queries import picture_of_version


class TypedObjects(BaseModel):
    """A list of objects as a form sends it: one entry of each list for each object, but for the ticks, which hold paths."""

    path: list[str] = Field(default_factory=list)
    name: list[str] = Field(default_factory=list)
    as_named: list[str] = Field(default_factory=list)
    group: list[str] = Field(default_factory=list)
    along: list[str] = Field(default_factory=list)
    hidden: list[str] = Field(default_factory=list)
    guide: list[str] = Field(default_factory=list)

    def choices(self) -> list[ObjectChoice]:
        """What is to happen to each object. Raises BadInput where the list is not whole."""
        if len({len(self.path), len(self.name), len(self.as_named), len(self.group)}) > 1:
            raise BadInput("The list of objects is incomplete: reload the page.")
        along, hidden, guide = set(self.along), set(self.hidden), set(self.guide)
        named = zip(self.path, self.name, self.as_named, self.group, strict=True)
        return [
            ObjectChoice(
                path=path, along=path in along, name=None if name.strip() == own else name.strip()[:120], group=group.strip()[:120],
                hidden=path in hidden, guide=path in guide,
            )
            for path, name, own, group in named
        ]  # fmt: skip


def set_of_version(context: Context, version: Version) -> SetListing:
    """The objects of the set round a version's camera. Raises BadInput where its recipe cannot be done."""
    camera, picture = camera_of_version(context, version), picture_of_version(version)
    return context.calculators.run(version.source_file.name, set_listing, camera, picture)


def choose_objects(context: Context, version: Version, choices: Sequence[ObjectChoice]) -> Version:
    """Which objects delivered from now on, as a new version. Raises BadInput for one that the set does not hold."""
    listing = set_of_version(context, version)
    there = {r.path for r in listing.rows}
    unknown = next((c.path for c in choices if c.path not in there), None)
    if unknown is not None:
        raise BadInput(f"The set has no object '{unknown}': it may have been removed meanwhile. Load the page again.")
    changed = [c.model_dump(exclude_defaults=True) for c in choices]
    left = sum(not c.along for c in choices)
    words = f"set: {len(listing.rows) - left} of {len(listing.rows)} objects delivered"
    return add_operations(context, version, [Operation("set_objects", {"objects": changed})], words)
