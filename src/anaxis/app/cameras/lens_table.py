"""Lens data from a table, taken into a camera's recipe."""

from __future__ import annotations

from anaxis.app.cameras.edit import add_operations
from anaxis.app.context import Context
from anaxis.core.recipe.model import Operation
from anaxis.formats.tables.lens_data import LensTableOptions
from anaxis.library.changes import lens_table_operation
from anaxis.store.models import Version
from anaxis.store.queries import track_of


def take_lens_table(context: Context, version: Version, name: str, data: bytes, options: LensTableOptions) -> Version:
    """The table's lens data over the camera's own on the frames that it has, as a new version. Raises BadInput."""
    params, said = lens_table_operation(name, data, track_of(version)[0], options)
    return add_operations(context, version, [Operation("lens_table", params)], said)
