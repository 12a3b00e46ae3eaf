"""The exchange: what is kept, passed on, held against the other side's changes, settled; pulled and written back."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import Engine, select, text

import ordinary
from anaxis.app.cameras.edit import edit_version
from anaxis.app.context import Context
from anaxis.app.deliveries.deliver import deliver_version
from anaxis.app.exchange.across import Across, write_across
from anaxis.app.exchange.cells import FramePatch, cells_of_values
from anaxis.app.exchange.changes import MissingChange, take_change
from anaxis.app.exchange.clients import choose, enter, heard_of, take_scene
from anaxis.app.exchange.links import LinkAsked, link, passed, settle, stop
from anaxis.app.exchange.messages import Change, Hello, SceneMessage, read_message, schema
from anaxis.app.exchange.passing import Replaced
from anaxis.app.exchange.retention import clear_changes
from anaxis.app.exchange.sides import held_by, held_with_sequence
from anaxis.app.exchange.takes import Pull, Push, changed_groups, due_moments, keep_moment, planned_push, pull, push
from anaxis.app.exchange.together import together
from anaxis.app.history import Of, entries
from anaxis.app.roles import LOCAL
from anaxis.core.camera.lens import Image
from anaxis.core.errors import BadInput
from anaxis.core.recipe.model import Operation
from anaxis.packages import shipped_profiles
from anaxis.packages.package_values import own_rows
from anaxis.simulated import space
from anaxis.simulated.scene import SimulatedCamera, rows_of
from anaxis.store.exchange import Clash, Client, ExchangeChange, Link, RemoteCamera
from anaxis.store.models import Version
from anaxis.store.queries import track_of
from linked import Side, apart_px, loop, pixels, quiet, random_profile, remote_ids, shown, until
from pages import Server

A = shipped_profiles()["zup-rh-m"].model_dump(mode="json")
B = shipped_profiles()["zup-lh-cm"].model_dump(mode="json") | {"habits": [{"code": "frame_offset", "frames": 1.0}]}
EVERY = list(space.GROUPS)


class Two:
    """Two packages connected to a served store, and a link between their cameras when one is asked for."""

    def __init__(
        self,
        server: Server,
        engine: Engine,
        database_url: str,
        folder: Path,
        profiles: tuple[dict[str, Any], dict[str, Any]] = (A, B),
    ) -> None:
        self.server, self.engine, self.url, self.folder, self.profiles = server, engine, database_url, folder, profiles
        self.show = shown(engine)

    def run(self, scenario: Callable[[Two], Any]) -> None:
        with self.server.on(self.url) as site, loop() as runner:
            runner.run(self._run(site, scenario))

    async def _run(self, site: str, scenario: Callable[[Two], Any]) -> None:
        self.a, self.b = (
            Side(self.folder, n, p, site) for n, p in zip(("animation", "engine"), self.profiles, strict=True)
        )
        self.a.begin()
        self.b.begin()
        await until(lambda: len(remote_ids(self.engine)) == 2)
        self.ids = remote_ids(self.engine)
        await scenario(self)
        await self.a.end()
        await self.b.end()

    def store(self, work: Callable[[Context], Any]) -> Any:
        with Context(self.engine, LOCAL, expire_on_commit=False) as store, store.begin():
            return work(store)

    async def linked(self, **asked: Any) -> int:
        a, b = (next(i for n, i in self.ids.items() if n.startswith(s)) for s in ("animation", "engine"))
        number = await asyncio.to_thread(
            self.store, lambda s: link(s, LinkAsked(first=a, second=b, frame_for_frame=True, **asked)).id
        )
        await self.settled()
        return int(number)

    async def settled(self) -> None:
        # The outboxes first: what leaves one has been passed on by then, so that the store is asked about it.
        await until(lambda: not (self.a.scene.outbox or self.b.scene.outbox) and quiet(self.engine))

    def apart(self) -> float:
        a, b = self.a.camera, self.b.camera
        assert len(a.frames) == len(b.frames)
        return apart_px(self.a.scene.profile, a.rows, self.b.scene.profile, b.rows)


@pytest.fixture
def two(server: Server, engine: Engine, database_url: str, tmp_path: Path) -> Two:
    return Two(server, engine, database_url, tmp_path)


def test_a_change_goes_through_and_back_and_takes_nothing_else_along(two: Two) -> None:
    async def scenario(two: Two) -> None:
        number = await two.linked(both_ways=True)
        before = two.b.camera.rows.copy()
        x, y, z = two.a.row(7, "position")
        await two.a.set(7, position=[x + 0.5, y, z])
        await two.settled()
        assert two.apart() < 1e-6
        changed = np.flatnonzero((two.b.camera.rows != before).any(axis=1))
        assert changed.tolist() == [7] and (two.b.camera.rows[7, 3:] == before[7, 3:])[~np.isnan(before[7, 3:])].all()
        lens = two.b.row(3, "lens")
        await two.b.set(3, lens=[lens[0] * 1.5, *lens[1:]], focus=[321.0])
        await two.settled()
        assert two.apart() < 1e-6 and two.a.row(3, "focus") == pytest.approx([3.21])
        found = two.store(lambda s: passed(s, s.get_one(Link, number)))
        assert found.through == 2 and not found.on_their_way and 0 < found.delay_s < 10
        # one way: what the second changes is its own
        two.store(lambda s: stop(s, s.get_one(Link, number)))
        await two.linked()
        await two.b.set(5, focus=[99.0])
        await two.settled()
        assert two.a.row(5, "focus") != [0.99]

    two.run(scenario)


def test_what_both_changed_waits_for_a_person_and_what_one_changed_does_not(two: Two) -> None:
    async def scenario(two: Two) -> None:
        await two.linked(both_ways=True)
        await two.a.end()
        await two.b.end()
        # Both away: the same frame's position on both sides, another group and other frames on one side each.
        await two.a.set(4, position=[1.0, 2.0, 3.0], rotation=[91.0, 2.0, 3.0])
        await two.b.set(4, position=[-50.0, 60.0, 70.0])
        await two.a.set(9, position=[0.1, 0.2, 0.3])
        await two.b.set(11, focus=[777.0])
        two.a.begin()
        two.b.begin()
        await until(lambda: two.a.line.line.state == two.b.line.line.state == "connected")
        await two.settled()
        clash = two.store(lambda s: s.execute(select(Clash)).scalar_one())
        assert clash.groups == ["position"] and len(clash.frames) == 1
        assert two.a.row(4, "position") == [1.0, 2.0, 3.0] and two.b.row(4, "position") == [-50.0, 60.0, 70.0]
        assert two.b.row(9, "position") == pytest.approx([10.0, -20.0, 30.0]) and two.a.row(
            11, "focus"
        ) == pytest.approx([7.77])
        # A newer change of the same frame waits too; the others go on.
        await two.a.set(4, position=[1.5, 2.5, 3.5])
        await two.a.set(5, position=[1.5, 2.5, 3.5])
        await two.settled()
        assert two.b.row(4, "position") == [-50.0, 60.0, 70.0] and two.b.row(5, "position") == pytest.approx(
            [150, -250, 350]
        )
        keep = "sent" if clash.remote.client.name == "engine" else "here"
        two.store(lambda s: settle(s, s.get_one(Clash, clash.id), keep))
        await two.settled()
        assert two.b.row(4, "position") == pytest.approx([150, -250, 350]) and two.apart() < 1e-6
        said = two.store(lambda s: [(e.action, e.said) for e in entries(s, Of(show=two.show)).rows])
        assert (
            "resolve a conflict",
            f"{clash.remote.called}: animation sluice_cam's values kept",
        ) in said and "link" in dict(said)
        with pytest.raises(BadInput, match="This conflict is resolved already"):
            two.store(lambda s: settle(s, s.get_one(Clash, clash.id), keep))

    two.run(scenario)


@pytest.mark.parametrize("rule", ["first", "second"])
def test_a_rule_settles_it_by_itself(two: Two, rule: str) -> None:
    async def scenario(two: Two) -> None:
        await two.linked(both_ways=True, rule=rule)
        for first, second in ((two.a, two.b), (two.b, two.a)):  # whoever comes back first
            await two.a.end()
            await two.b.end()
            await two.a.set(4, position=[1.0, 2.0, 3.0])
            await two.b.set(4, position=[-50.0, 60.0, 70.0])
            first.begin()
            await until(lambda side=first: side.line.line.state == "connected" and not side.scene.outbox)  # type: ignore[misc]
            second.begin()
            await until(lambda side=second: side.line.line.state == "connected")  # type: ignore[misc]
            await two.settled()
            wanted = [1.0, 2.0, 3.0] if rule == "first" else [-0.5, -0.6, 0.7]
            assert two.a.row(4, "position") == pytest.approx(wanted) and two.apart() < 1e-6
        assert two.store(lambda s: s.execute(select(Clash)).first()) is None

    two.run(scenario)


def test_a_side_that_was_away_gets_what_it_missed_in_order_once(two: Two) -> None:
    async def scenario(two: Two) -> None:
        await two.linked(both_ways=True)
        have = two.b.scene.have
        await two.b.end()
        for k in range(20):
            await two.a.set(k % 4, position=[float(k), 0.0, 1.0])
        await until(lambda: not two.a.scene.outbox)
        assert not quiet(two.engine)
        # Its process ends and begins again from its file, twice in the middle of it.
        for _ in range(3):
            two.b = Side(two.folder, "engine", two.profiles[1], two.b.line.line.address.removesuffix("/exchange/v1"))
            two.b.begin()
            await asyncio.sleep(0.03)
            await two.b.end()
        two.b = Side(two.folder, "engine", two.profiles[1], two.b.line.line.address.removesuffix("/exchange/v1"))
        two.b.begin()
        await two.settled()
        assert two.b.scene.have == have + 20 and two.apart() < 1e-6
        assert [two.b.row(k, "position")[0] for k in range(4)] == pytest.approx([1600.0, 1700.0, 1800.0, 1900.0])

    two.run(scenario)


def test_pulled_worked_on_and_written_back_by_channel(two: Two) -> None:
    """Only what was changed here is written there, and the lens work done there meanwhile stays."""

    async def scenario(two: Two) -> None:
        a = next(i for n, i in two.ids.items() if n.startswith("animation"))
        version = two.store(lambda s: pull(s, s.get_one(RemoteCamera, a), Pull(shot="TW_900")).id)
        lens = two.a.row(2, "lens")
        await two.a.set(2, lens=[50.0, *lens[1:]], focus=[12.5])
        await two.settled()
        track_rows = two.a.camera.rows.copy()

        def worked(store: Context) -> int:
            # Its frames 5 and on stand elsewhere, by a recipe.
            first = store.get_one(Version, version)
            recipe = (Operation("shift", {"x_m": 0.0, "y_m": 0.25, "z_m": 0.0}),)
            return edit_version(store, first, recipe, "a little higher").id

        edited = two.store(worked)
        plan = two.store(
            lambda s: planned_push(
                s,
                s.get_one(Version, edited),
                s.get_one(RemoteCamera, a),
                s.get_one(RemoteCamera, a).client,
                tuple(EVERY),
            )
        )
        assert plan.groups == ["position"] and not plan.whole and not plan.both and plan.since is not None
        two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a)))
        await two.settled()
        moved = two.a.camera.rows - track_rows
        np.testing.assert_allclose(moved[:, 2], 0.25, atol=1e-9)  # up is its Z
        assert (two.a.camera.rows[:, [0, 1]] == track_rows[:, [0, 1]]).all() and two.a.row(2, "lens")[0] == 50.0
        assert (two.a.camera.rows[:, 3:6] == track_rows[:, 3:6]).all(), "no angle was touched"
        # Where both changed, nobody is overruled unasked.
        await two.a.set(3, position=[9.0, 9.0, 9.0])
        await two.settled()
        with pytest.raises(BadInput, match="has changed 24 of these frames"):
            two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a)))
        differ = two.store(lambda s: changed_groups(s, s.get_one(Version, edited), s.get_one(RemoteCamera, a)))
        assert differ == ["position"]
        with pytest.raises(BadInput, match=r"Nothing to write.* not ticked: position\."):
            two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a, groups=["stop"])))
        with pytest.raises(BadInput, match="Nothing to write"):
            two.store(lambda s: push(s, s.get_one(Version, version), Push(remote=a, groups=["stop"])))
        two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a, both="ours")))
        await two.settled()
        assert two.a.row(3, "position")[2] == pytest.approx(track_rows[3, 2] + 0.25)

    two.run(scenario)


def test_a_retimed_version_written_back_replaces_the_frames_and_keeps_their_lens(
    server: Server, engine: Engine, database_url: str, tmp_path: Path
) -> None:
    """Into a package that shifts its world: only the channels chosen are ours, and what is theirs arrives as it was."""
    profile = A | {"habits": [{"code": "world_shift", "x": 3.0, "y": -1.0, "z": 0.5}]}
    two = Two(server, engine, database_url, tmp_path, (profile, B))

    async def scenario(two: Two) -> None:
        a = next(i for n, i in two.ids.items() if n.startswith("animation"))
        version = two.store(lambda s: pull(s, s.get_one(RemoteCamera, a), Pull(shot="TW_900")).id)
        lens, place = two.a.row(0, "lens"), two.a.row(0, "position")
        await two.a.set(0, lens=[77.0, *lens[1:]])
        await two.settled()
        recipe = (Operation("rate", {"rate": "48", "keep": "time"}),)
        edited = two.store(lambda s: edit_version(s, s.get_one(Version, version), recipe, "retimed").id)
        with pytest.raises(BadInput, match="has changed 48 of these frames"):
            two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a, groups=["rotation"])))
        two.store(lambda s: push(s, s.get_one(Version, edited), Push(remote=a, groups=["rotation"], both="ours")))
        await two.settled()
        camera = two.a.camera
        assert len(camera.frames) == 48 and camera.rate == "48/1" and two.a.row(0, "lens")[0] == 77.0
        assert two.a.row(0, "position") == pytest.approx(place, abs=1e-9), "theirs, and not shifted by its habit"
        held = two.store(lambda s: held_by(s, s.get_one(RemoteCamera, a)))
        np.testing.assert_array_equal(held.rows, camera.rows)
        await until(lambda: two.store(lambda s: s.get_one(RemoteCamera, a).rate) == "48/1")

    two.run(scenario)


def test_a_camera_here_goes_to_a_package_as_a_new_one_and_matches(two: Two) -> None:
    async def scenario(two: Two) -> None:
        a = next(i for n, i in two.ids.items() if n.startswith("animation"))
        version = two.store(lambda s: pull(s, s.get_one(RemoteCamera, a), Pull(shot="TW_900", camera="pulled")).id)
        b = two.store(lambda s: s.execute(select(Client.id).where(Client.name == "engine")).scalar_one())
        new = two.store(lambda s: push(s, s.get_one(Version, version), Push(client=b)).id)
        await two.settled()
        key = two.store(lambda s: s.get_one(RemoteCamera, new).key)
        held = two.b.scene.cameras[key]
        # sent a frame early, for this package shows everything one late
        assert held.frames.tolist() == two.a.camera.frames.tolist() and held.name == "TW_900 pulled"
        assert apart_px(A, two.a.camera.rows, B, held.rows) < 1e-6
        seen = two.store(lambda s: held_by(s, s.get_one(RemoteCamera, new)))
        assert seen.frames.tolist() == held.frames.tolist() and (seen.rows == held.rows).all()
        # what is kept here is proved and delivered as any other version is
        done = two.store(
            lambda s: deliver_version(s, s.get_one(Version, version), shipped_profiles()["zup-lh-cm"], "usd")
        )
        assert done.verdict == "Matches"
        await two.a.set(0, focus=[4.5], position=[0.0, 1.0, 2.0])
        await two.settled()
        across = two.store(
            lambda s: (
                write_across(
                    s,
                    Across(
                        source=a,
                        to=next(i for n, i in two.ids.items() if n.startswith("engine")),
                        groups=["focus"],
                        frame_for_frame=True,
                    ),
                ).id
            )
        )
        await two.settled()
        assert two.b.row(0, "focus") == pytest.approx([450.0]) and two.b.row(0, "position") != pytest.approx(
            [0.0, -100.0, 200.0]
        )
        assert across == next(i for n, i in two.ids.items() if n.startswith("engine"))

    two.run(scenario)


def test_versions_at_a_links_moments(two: Two) -> None:
    async def scenario(two: Two) -> None:
        a = next(i for n, i in two.ids.items() if n.startswith("animation"))
        number = await two.linked(both_ways=True, every_s=1)
        with pytest.raises(BadInput, match="Pull animation sluice_cam once first"):
            two.store(lambda s: keep_moment(s, s.get_one(Link, number), "by hand"))
        first = two.store(lambda s: pull(s, s.get_one(RemoteCamera, a), Pull(shot="TW_900")).camera_id)

        def takes() -> int:
            with Context(two.engine, LOCAL) as store:
                return len(store.execute(select(Version.id).where(Version.camera_id == first)).all())

        await two.b.set(6, position=[500.0, 0.0, 100.0])
        await two.settled()

        def all_kept(store: Context) -> bool:
            row = store.get_one(Link, number)
            return takes() >= 2 and row.moment_sequence == held_with_sequence(store, row.first)[0]

        await until(lambda: two.store(all_kept))
        kept = takes()
        await asyncio.sleep(2.5)
        assert takes() == kept, "nothing new was held: no version is made of it"
        assert two.store(due_moments) == []

    two.run(scenario)


@pytest.mark.parametrize("seed", range(3))
def test_links_between_packages_that_nobody_has_shipped(
    server: Server, engine: Engine, database_url: str, tmp_path: Path, seed: int
) -> None:
    rng = np.random.default_rng(seed)
    two = Two(server, engine, database_url, tmp_path, (random_profile(rng, 2), random_profile(rng, 3)))

    async def scenario(two: Two) -> None:
        await two.linked(both_ways=True)
        assert two.apart() < 1e-5
        for k in range(6):
            side = (two.a, two.b)[k % 2]
            row = side.camera.rows[3 * k].copy()
            row[:3] += rng.normal(size=3) * 0.1 / side.scene.profile["metres_per_unit"]
            row[3:6] += rng.normal(size=3) * 4
            await side.set(3 * k, position=row[:3].tolist(), rotation=row[3:6].tolist())
            await two.settled()
        assert two.apart() < 1e-5
        remote = [two.store(lambda s, i=i: s.get_one(RemoteCamera, i)) for i in two.ids.values()]  # type: ignore[misc]
        found = two.store(
            lambda s: together(
                s,
                s.get_one(RemoteCamera, remote[0].id),
                s.get_one(RemoteCamera, remote[1].id),
                remote[1].first - remote[0].first,
            )
        )
        assert found.deviation_px.max() < 1e-5 and not found.beside

    two.run(scenario)


def test_what_cannot_be_made_up_for_is_seen(server: Server, engine: Engine, database_url: str, tmp_path: Path) -> None:
    """A package that drops offsets and levels the horizon does not match, and is not said to."""
    profile = shipped_profiles()["yup-rh-m"].model_dump(mode="json") | {"habits": [{"code": "no_roll"}]}
    two = Two(server, engine, database_url, tmp_path, (A, profile))

    async def scenario(two: Two) -> None:
        await two.linked(both_ways=True)
        x, _, z = two.a.row(7, "rotation")
        await two.a.set(7, rotation=[x, 25.0, z])
        await two.settled()
        a, b = two.ids.values()
        found = two.store(
            lambda s: together(
                s,
                s.get_one(RemoteCamera, a),
                s.get_one(RemoteCamera, b),
                s.get_one(RemoteCamera, b).first - s.get_one(RemoteCamera, a).first,
            )
        )
        assert (
            found.deviation_px.argmax() == 7
            and found.deviation_px[7] > 50
            and np.delete(found.deviation_px, 7).max() < 1e-6
        )

    two.run(scenario)


def test_ordinary_shots_pulled_and_pushed(server: Server, engine: Engine, database_url: str, tmp_path: Path) -> None:
    """Every shot of the matrix in one package, pulled from it, pushed into another as a new camera: the shot's own pixels there,
    and what is kept here is the shot."""
    made = {name: maker() for name, maker in ordinary.SHOTS.items()}
    profiles = A, random_profile(np.random.default_rng(21), 2)
    two = Two(server, engine, database_url, tmp_path, profiles)

    async def scenario(two: Two) -> None:
        side = shipped_profiles()["zup-rh-m"]
        for name, shot in made.items():
            rows = own_rows(ordinary.track_of(shot), side, Image(shot.width_px, shot.height_px))
            two.a.scene.cameras[name] = SimulatedCamera(
                name, name, f"{shot.rate}/1", shot.width_px, shot.height_px, 1.0, shot.frames.astype(float), rows
            )
        await two.a.line.tell_scene()
        await until(lambda: len(remote_ids(two.engine)) == len(made) + 2, 60)
        ids = remote_ids(two.engine)
        b = two.store(lambda s: s.execute(select(Client.id).where(Client.name == "engine")).scalar_one())
        for name in made:
            source = ids[f"animation {name}"]
            await asyncio.to_thread(two.store, lambda s, i=source: write_across(s, Across(source=i, client=b)))  # type: ignore[misc]
        await two.settled()
        for name, shot in made.items():
            held = next(c for c in two.b.scene.cameras.values() if c.name == name)
            assert held.frames.tolist() == shot.frames.tolist() and held.rate == f"{shot.rate}/1", name
            some = np.unique(np.linspace(0, len(held.frames) - 1, 50).astype(int))
            points = ordinary.points_ahead(shot, shot.frames[some])
            seen = pixels(profiles[1], held.rows[some], points, held.image)
            assert np.abs(seen - ordinary.pixels(shot, shot.frames[some], points)[0]).max() < 1e-5, name
            version = await asyncio.to_thread(
                two.store,
                lambda s, i=ids[f"animation {name}"], n=name: pull(s, s.get_one(RemoteCamera, i), Pull(shot=n)).id,  # type: ignore[misc]
            )
            track = two.store(lambda s, v=version: track_of(s.get_one(Version, v))[0])  # type: ignore[misc]
            place, turn, focal = shot.at(track.frames)
            np.testing.assert_allclose(track.position_m, place, atol=1e-8)
            np.testing.assert_allclose(track.rotation, turn, atol=1e-9)
            np.testing.assert_allclose(track.lens.focal_mm, focal, rtol=1e-12)

    two.run(scenario)


def test_old_changes_go_and_what_is_held_stays(two: Two) -> None:
    async def scenario(two: Two) -> None:
        number = await two.linked(both_ways=True)
        for k in range(5):
            await two.a.set(k, position=[float(k), 1.0, 2.0])
        await two.settled()
        held = [two.store(lambda s, i=i: held_by(s, s.get_one(RemoteCamera, i)).rows) for i in two.ids.values()]  # type: ignore[misc]
        assert clear_changes(two.engine, 1) == 0
        with two.engine.begin() as connection:
            connection.execute(text("UPDATE exchange_changes SET created_at = created_at - interval '3 days'"))
        assert clear_changes(two.engine, 1) >= 10
        assert two.store(lambda s: s.execute(select(ExchangeChange)).first()) is None
        for i, rows in zip(two.ids.values(), held, strict=True):
            np.testing.assert_array_equal(two.store(lambda s, i=i: held_by(s, s.get_one(RemoteCamera, i)).rows), rows)  # type: ignore[misc]
        await two.b.set(9, position=[900.0, 0.0, 0.0])
        await two.settled()
        assert two.apart() < 1e-6 and two.store(lambda s: passed(s, s.get_one(Link, number))).through == 1

    two.run(scenario)


# Without a connection


@pytest.fixture
def client(engine: Engine) -> Iterator[tuple[Context, Client]]:
    shown(engine)
    with Context(engine, LOCAL, expire_on_commit=False) as store:
        row = enter(store, hello())
        take_scene(
            store,
            row.id,
            row.connection,
            SceneMessage.model_validate({"cameras": [{"id": "c", "name": "cam", "first": 1, "last": 2}]}),
        )
        yield store, row


def hello(**more: Any) -> Hello:
    return Hello.model_validate({"protocol": 1, "client": "abcdefgh", "name": "one", "profile": "zup-rh-m", **more})


def whole(number: int, **more: Any) -> tuple[Change, FramePatch]:
    row = {
        "position": [[0, 0, 0]],
        "rotation": [[0, 0, 0]],
        "lens": [[35, 36, 24, 0, 0, 1]],
        "focus": [[None]],
        "stop": [[None]],
        "clips": [[None, None]],
    }
    values = {g: v * 2 for g, v in row.items()}  # type: ignore[operator]
    message = Change.model_validate(
        {"number": number, "camera": "c", "frames": [1, 2], "values": values, "replaces": True, **more}
    )
    return message, cells_of_values([1.0, 2.0], values, "here")  # type: ignore[arg-type]


def test_numbers_are_taken_once_in_order_of_the_connection_that_counts(client: tuple[Context, Client]) -> None:
    store, row = client
    assert take_change(store, row.id, row.connection, *whole(1)) is True
    assert take_change(store, row.id, row.connection, *whole(1)) is False
    with pytest.raises(MissingChange, match="but change 2 is next"):
        take_change(store, row.id, row.connection, *whole(3))
    before = row.connection
    assert enter(store, hello(last=1)).connection != before
    empty = SceneMessage.model_validate({"cameras": []})
    for said in (
        lambda: take_change(store, row.id, before, *whole(2)),
        lambda: take_scene(store, row.id, before, empty),
        lambda: choose(store, row.id, before, "c"),
        lambda: heard_of(store, row.id, before, "over"),
    ):
        with pytest.raises(Replaced):
            said()
    assert row.selected is None and row.said == "" and store.execute(select(RemoteCamera)).scalar_one().gone_at is None
    assert len(store.execute(select(ExchangeChange)).all()) == 1
    with pytest.raises(BadInput, match="an older copy"):
        enter(store, hello(last=0))
    with pytest.raises(BadInput, match="server's store is an older copy"):
        enter(store, hello(last=1, have=5))
    with pytest.raises(BadInput, match="no show 'Elsewhere'"):
        enter(store, hello(show="Elsewhere", last=1))
    assert held_by(store, store.execute(select(RemoteCamera)).scalar_one()).frames.tolist() == [1.0, 2.0]


@pytest.mark.parametrize(
    "text, said",
    [
        ("{", "neither JSON"), ("[]", "cannot be read"), ('{"type": "change", "number": 0}', "number"), ('{"type": "playhead", "frame": NaN}', "neither JSON"),
        ('{"type": "change", "number": 1, "camera": "c", "frames": [1], "values": {"position": [[1, 2]]}}', "position needs 3 numbers"),
        ('{"type": "change", "number": 1, "camera": "c", "frames": [2, 1], "values": {"stop": [[1], [2]]}}', "increasing numbers"),
        ('{"type": "change", "number": 1, "camera": "c", "frames": [1], "values": {"position": [[1, null, 2]]}}', "a number"),
        ('{"type": "change", "number": 1, "camera": "c", "frames": [], "values": {}}', "0 frames"), (b"\xff\xff\xff\x7f", "neither JSON"),
        (b"\x02\x00\x00\x00{}", "cannot be read"), ('{"type": "change", "number": 1, "camera": "c", "frames": [1], "values": {"lens": [[0, 36, 24, 0, 0, 1]]}}', "above zero"),
    ],
)  # fmt: skip
def test_messages_that_make_no_sense_are_said_so(text: str | bytes, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        read_message(text)


def test_the_schema_in_the_docs_is_the_protocols_own() -> None:
    root = Path(__file__).parents[2]
    assert json.loads((root / "docs" / "exchange.schema.json").read_text()) == schema(), (
        "run scripts/document_exchange.py"
    )


def test_what_a_simulated_package_says_is_by_the_schema(tmp_path: Path) -> None:
    from jsonschema import Draft202012Validator

    side = Side(tmp_path, "one", A, "http://127.0.0.1:1")
    document = schema()
    check = Draft202012Validator({**document, "anyOf": [{"$ref": "#/$defs/from_package"}]})
    messages = [side.line._hello(), side.scene.change("cam1", [3.0], {"position": [[1.0, 2.0, 3.0]]}), side.scene.whole("cam1"),
                {"type": "scene", "cameras": [c.entry() for c in side.scene.cameras.values()], "marks": side.scene.marks, "lines": side.scene.lines}]  # fmt: skip
    for message in messages:
        check.validate(message)
    assert not check.is_valid({"type": "change", "number": 1}) and not check.is_valid({"type": "hello"})
    assert rows_of(1, {"stop": [[None]]}).shape == (1, 16)
