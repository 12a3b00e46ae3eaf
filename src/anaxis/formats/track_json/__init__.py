"""Track JSON, a document of our own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from anaxis.formats.format import Format, Reader, Writer

if TYPE_CHECKING:
    from anaxis.core.motion.reduce import KeyRule
    from anaxis.core.space.axes import Convention


class _TrackJson(Format):
    def reader(self) -> Reader:
        from anaxis.formats.track_json.document import read_track_json

        return read_track_json

    def writer(self) -> Writer:
        from anaxis.formats.track_json.document import write_track_json

        return write_track_json

    def key_rule(self, receiver: Convention) -> KeyRule:
        from anaxis.formats.track_json.document import key_rule

        return key_rule(receiver)


FORMAT = _TrackJson("json", "Track JSON", ("json",), (".json",), sets=False, calibrates=True)
