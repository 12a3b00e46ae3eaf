"""Chains of links, and links by time between packages of different frame rates, in packages that speak the exchange."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation, RotationSpline
from sqlalchemy import Engine

from anaxis.app.context import Context
from anaxis.app.exchange.across import Across, write_across
from anaxis.app.exchange.links import LinkAsked, link, stop
from anaxis.app.exchange.together import resampling_cost, together
from anaxis.app.roles import LOCAL
from anaxis.core.errors import BadInput
from anaxis.packages import shipped_profiles
from anaxis.simulated import space
from anaxis.simulated.space import Rows
from anaxis.store.exchange import Link, RemoteCamera
from linked import Side, apart_px, loop, quiet, random_profile, remote_ids, shown, until
from pages import Server

METRES, CENTIMETRES = (shipped_profiles()[k].model_dump(mode="json") for k in ("zup-rh-m", "zup-lh-cm"))


def at(profile: dict[str, Any], rate: str, first: float = 1001.0) -> dict[str, Any]:
    return profile | {"time": profile["time"] | {"rate": rate, "first_frame": first}}


class Several:
    """Packages connected to a served store, by name; each with one camera."""

    def __init__(self, engine: Engine, folder: Path, profiles: dict[str, dict[str, Any]], site: str) -> None:
        self.engine = engine
        self.sides = {name: Side(folder, name, profile, site) for name, profile in profiles.items()}

    async def begin(self) -> None:
        for side in self.sides.values():
            side.begin()
        await until(lambda: len(remote_ids(self.engine)) == len(self.sides))
        self.ids = {name.split(" ")[0]: number for name, number in remote_ids(self.engine).items()}

    def __getitem__(self, name: str) -> Side:
        return self.sides[name]

    def store(self, work: Callable[[Context], Any]) -> Any:
        with Context(self.engine, LOCAL, expire_on_commit=False) as store, store.begin():
            return work(store)

    async def link(self, first: str, second: str, **asked: Any) -> int:
        wanted = LinkAsked(first=self.ids[first], second=self.ids[second], **asked)
        number = await asyncio.to_thread(self.store, lambda s: link(s, wanted).id)
        await self.settled()
        return int(number)

    async def settled(self) -> None:
        await until(lambda: not any(s.scene.outbox for s in self.sides.values()) and quiet(self.engine))

    def apart(self, a: str, b: str) -> float:
        one, other = self[a], self[b]
        return apart_px(one.scene.profile, one.camera.rows, other.scene.profile, other.camera.rows)


@pytest.fixture
def several(server: Server, engine: Engine, database_url: str, tmp_path: Path) -> Callable[..., None]:
    def run(profiles: dict[str, dict[str, Any]], scenario: Callable[[Several], Any]) -> None:
        shown(engine)

        async def whole(site: str) -> None:
            packages = Several(engine, tmp_path, profiles, site)
            await packages.begin()
            await scenario(packages)
            for side in packages.sides.values():
                await side.end()

        with server.on(database_url) as site, loop() as runner:
            runner.run(whole(site))

    return run


def refused(packages: Several, first: str, second: str, **asked: Any) -> str:
    with pytest.raises(BadInput) as error:
        packages.store(lambda s: link(s, LinkAsked(first=packages.ids[first], second=packages.ids[second], **asked)))
    return error.value.sentence


def test_a_change_goes_along_a_chain_and_a_loop_is_refused(several: Callable[..., None]) -> None:
    rng = np.random.default_rng(5)
    profiles = {"a": METRES, "b": random_profile(rng, 2), "c": random_profile(rng, 1), "d": CENTIMETRES}

    async def scenario(p: Several) -> None:
        plain = {"frame_for_frame": True}
        await p.link("b", "c", **plain)  # the end of the chain first
        await p.link("a", "b", both_ways=True, **plain)
        await p.link("c", "d", **plain)
        assert p.apart("a", "b") < 1e-5 and p.apart("a", "c") < 1e-5 and p.apart("a", "d") < 1e-5
        for first, second in (("c", "a"), ("d", "a"), ("d", "b")):
            assert "already receives changes" in refused(p, first, second, **plain)
        assert "already receives changes" in refused(p, "d", "c", both_ways=True, **plain)
        for k, name in enumerate(("a", "b", "a")):
            side = p[name]
            x, y, z = side.row(5 + k, "position")
            await side.set(5 + k, position=[x, y + 0.3 / side.scene.profile["metres_per_unit"], z])
            await p.settled()
        assert max(p.apart("a", other) for other in "bcd") < 1e-5
        # What the last changes is its own: nothing goes back.
        await p["d"].set(9, position=[1.0, 2.0, 3.0])
        await p.settled()
        assert p["d"].row(9, "position") == [1.0, 2.0, 3.0] and p.apart("a", "c") < 1e-5

    several(profiles, scenario)


def test_a_chain_that_leads_back_to_where_it_begins_is_refused(several: Callable[..., None]) -> None:
    async def scenario(p: Several) -> None:
        plain = {"frame_for_frame": True}
        await p.link("a", "b", **plain)
        await p.link("b", "c", **plain)
        assert "would close a loop: c" in refused(p, "c", "a", **plain)

    several(dict.fromkeys("abc", METRES), scenario)


def canonical(profile: dict[str, Any], rows: Rows) -> tuple[Rows, Rows]:
    """Positions (n, 3) in metres and rotations (n, 3, 3), right, up, back, of a package's own rows."""
    world, camera = space.sides(profile["world"]), space.sides(profile["camera"])
    turned = world.T @ space.matrices(profile, rows[:, space.columns("rotation")]) @ camera
    return rows[:, space.columns("position")] @ world * profile["metres_per_unit"], turned


def drawn_at(side: Side, places: Rows) -> tuple[Rows, Rows]:
    """Where a moving camera is and how it is turned between its frames, in metres right, up, back: an oracle of its own."""
    profile, rows = side.scene.profile, side.camera.rows
    position, turned = canonical(profile, rows)
    own = np.arange(len(rows), dtype=float)
    inside = np.minimum(places, own[-1])
    return CubicSpline(own, position)(inside), RotationSpline(own, Rotation.from_matrix(turned))(inside).as_matrix()


@pytest.mark.parametrize(
    ("rates", "first"), [(("24", "25"), 1001.0), (("25", "24"), -20.0), (("24000/1001", "60"), 86400.0)]
)
def test_a_link_by_time_resamples_the_camera(
    several: Callable[..., None], rates: tuple[str, str], first: float
) -> None:
    fps = [24000 / 1001 if r == "24000/1001" else float(r) for r in rates]

    async def scenario(p: Several) -> None:
        a, b = p["a"], p["b"]
        for more, said in (({}, "choose by time"), ({"by_time": True, "both_ways": True}, "goes one way")):
            assert said in refused(p, "a", "b", **more)
        number = await p.link("a", "b", by_time=True)

        def same(worst_m: float) -> None:
            held = np.asarray(b.camera.frames) - b.camera.frames[0]
            places = held * fps[0] / fps[1]
            inside = places <= len(a.camera.rows) - 1
            position, turned = drawn_at(a, places[inside])
            got, got_turned = canonical(b.scene.profile, b.camera.rows[inside])
            assert np.abs(got - position).max() < worst_m and np.abs(got_turned - turned).max() < worst_m
            assert inside.sum() >= int(24 / fps[0] * fps[1]) - 3

        same(1e-9)
        x, y, z = a.row(12, "position")
        for y_now in (y + 0.02, y + 0.04, y + 0.01):
            await a.set(12, position=[x, y_now, z])
        await a.set(
            3, rotation=[angle + more for angle, more in zip(a.row(3, "rotation"), (0.1, -0.2, 0.05), strict=True)]
        )
        await p.settled()
        same(1e-9)
        found = p.store(lambda s: together(s, s.get_one(RemoteCamera, p.ids["a"]), s.get_one(RemoteCamera, p.ids["b"]),
                                           s.get_one(Link, number).offset, link=s.get_one(Link, number)))  # fmt: skip
        assert found.deviation_px.max() < 1e-5 and found.resampling.max_px > 0
        cost = p.store(lambda s: resampling_cost(s, s.get_one(Link, number)))
        assert cost.max_px == found.resampling.max_px
        # Undone again before the other side has acknowledged anything: the second still ends with what the first holds.
        await b.end()
        await a.set(12, position=[x, y + 0.03, z])
        await a.set(12, position=[x, y + 0.01, z])
        b.begin()
        await p.settled()
        same(1e-9)
        # A spike of one frame, as a cut is: no curve goes through it, and the second still shows what the first does.
        await a.set(18, position=[x, y + 3.0, z])
        await p.settled()
        with Context(p.engine, LOCAL) as store:
            row = store.get_one(Link, number)
            whole = together(store, row.second, row.first, -row.offset, link=row)
        assert whole.deviation_px.max() < 1e-5 and not whole.beside
        p.store(lambda s: stop(s, s.get_one(Link, number)))

    several({"a": at(METRES, rates[0], first), "b": at(CENTIMETRES, rates[1])}, scenario)


def test_what_the_second_changes_stays_until_the_first_changes_it(several: Callable[..., None]) -> None:
    async def scenario(p: Several) -> None:
        a, b = p["a"], p["b"]
        await p.link("a", "b", by_time=True)
        await b.set(4, focus=[77.0])
        await p.settled()
        x, y, z = a.row(15, "position")
        await a.set(15, position=[x + 1.0, y, z])
        await p.settled()
        assert b.row(4, "focus") == [77.0]
        await a.set(3, focus=[2.5])
        await a.set(4, focus=[2.5])
        await p.settled()
        assert b.row(4, "focus") != [77.0]

    several({"a": at(METRES, "24"), "b": at(CENTIMETRES, "25")}, scenario)


def test_what_is_pushed_once_by_time(several: Callable[..., None]) -> None:
    async def scenario(p: Several) -> None:
        asked = Across(source=p.ids["a"], to=p.ids["b"], by_time=True)
        await asyncio.to_thread(p.store, lambda s: write_across(s, asked).id)
        await p.settled()
        places = (np.asarray(p["b"].camera.frames) - p["b"].camera.frames[0]) * 24 / 48
        inside = places <= 23
        position, _ = drawn_at(p["a"], places[inside])
        got, _ = canonical(p["b"].scene.profile, p["b"].camera.rows[inside])
        assert np.abs(got - position).max() < 1e-9 and len(p["b"].camera.frames) == 48

    several({"a": at(METRES, "24"), "b": at(CENTIMETRES, "48")}, scenario)
