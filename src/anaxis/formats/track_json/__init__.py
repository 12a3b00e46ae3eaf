"""Track JSON, a document of our own."""

from __future__ import annotations

from anaxis.formats.format import Format, Reader, Writer


class _TrackJson(Format):
    def reader(self) -> Reader:
        from anaxis.formats.track_json.document import read_track_json

        return read_track_json

    def writer(self) -> Writer:
        from anaxis.formats.track_json.document import key_rule, write_track_json

        return Writer(write_track_json, key_rule)


FORMAT = _TrackJson("json", "Track JSON", ("json",), (".json",), sets=False, calibrates=True)
