"""Held at a frame: the projection camera, the mix-up with the shot camera, and coverage against brute force."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest

from anaxis.core.camera.lens import Image
from anaxis.core.camera.projection import projection_of
from anaxis.core.checks.examine import examine
from anaxis.core.derive import KINDS
from anaxis.core.derive.coverage import HIDDEN, OUTSIDE, SEEN, TURNED_AWAY, best_of, cover_of, seen_of, shares
from anaxis.core.derive.derived import Input, scene_of
from anaxis.core.derive.held import held_at
from anaxis.core.errors import BadInput
from anaxis.core.scene.picture import Picture
from anaxis.diagnosis.covered import coverage, proposals
from anaxis.diagnosis.rays import caster_of
from ordinary import SHOTS, pixels, points_ahead, track_of

IMAGE = Image(1920, 1080)


def source(name: str) -> Input:
    shot = SHOTS[name]()
    return Input(shot.name, track_of(shot), Picture(Image(shot.width_px, shot.height_px), "width", False, False))


@pytest.mark.parametrize("name", ["whip", "primes", "frame_86400", "frame_minus_20", "portrait", "far_out", "three"])
def test_it_stands_as_the_shot_camera_stood_with_as_much_more_as_asked(name: str) -> None:
    shot, own = SHOTS[name](), source(name)
    at = float(shot.frames[len(shot.frames) // 2])
    made = KINDS["held"].derive({"shot camera": own}, {"at": at, "overscan": "10%"})
    track = made.track
    assert (track.frames == own.track.frames).all() and track.name.startswith(f"{name}_projection_f")
    place = int(np.flatnonzero(shot.frames == at)[0])
    assert (track.position_m == own.track.position_m[place]).all() and (
        track.rotation == own.track.rotation[place]
    ).all()
    points = points_ahead(shot, np.array([at]))
    meant, _ = pixels(shot, np.array([at]), points)
    seen, _ = projection_of(track.select_frames(np.array([0])), made.image, made.fit).project(points)
    more = (np.array([made.image.width_px, made.image.height_px]) - [shot.width_px, shot.height_px]) / 2
    assert (more > 0).all() and np.abs(seen - more - meant).max() < 1e-6, "the plate lies in its middle, pixel on pixel"
    report = examine(scene_of(made, "held"))[0]
    assert {f.code for f in made.findings} == {"held_camera"} and report.usable and not report.animated
    with pytest.raises(BadInput, match="no sample on frame"):
        KINDS["held"].derive({"shot camera": own}, {"at": at + 0.5})
    with pytest.raises(BadInput, match="no distortion"):
        KINDS["held"].derive({"shot camera": own}, {"at": at, "overscan": "auto"})


def test_a_file_that_holds_both_says_which_is_which() -> None:
    own = source("whip")
    held = scene_of(KINDS["held"].derive({"shot camera": own}, {"at": 1040, "name": "cam2"}), "x")
    from dataclasses import replace

    from anaxis.core.derive.derived import Derived

    moving = scene_of(Derived(own.track, IMAGE, "width"), "x")
    both = replace(moving, format="usd", nodes=(*moving.nodes, *held.cameras))
    found = {r.name: {f.code: f for f in r.findings} for r in examine(both)}
    assert "held at frame 1040" in found["cam2"]["projection_camera"].message
    assert "projection_camera" not in found["whip"]
    # Alone it is known by its name; a locked-off shot camera is not taken for one.
    for name, said in (
        ("shotcam_projection_f1040", True),
        ("TW_010_projCam", True),
        ("projection", True),
        ("shotcam", False),
        ("project_cam", False),
    ):
        node = replace(held.cameras[0], path=f"/{name}")
        alone = replace(held, format="usd", nodes=(node,))
        assert any(f.code == "projection_camera" for f in examine(alone)[0].findings) == said, name


def test_a_still_of_one_frame_is_found_in_the_moving_camera() -> None:
    moving = track_of(SHOTS["whip"]())
    place = len(moving) - 1
    assert held_at(moving.select_frames(np.array([place])), moving) == moving.frames[place]


# Coverage: an oracle that looks at every triangle for every ray

WALL = [[[-6, -1, -8], [6, -1, -8], [6, 5, -8]], [[-6, -1, -8], [6, 5, -8], [-6, 5, -8]]]
POST = [[[0.4, -1, -3], [1.1, -1, -3], [1.1, 4, -3]], [[0.4, -1, -3], [1.1, 4, -3], [0.4, 4, -3]]]
SIDE = [[[3, -1, -2], [3, -1, -7], [3, 3, -7]], [[3, -1, -2], [3, 3, -7], [3, 3, -2]]]
SET = np.array([*WALL, *POST, *SIDE], dtype=np.float64)


def first_hit(origin: np.ndarray, ray: np.ndarray) -> tuple[float, int]:
    """Moeller and Trumbore 1997, one ray against every triangle."""
    best = (np.inf, -1)
    for i, (a, b, c) in enumerate(SET):
        e1, e2 = b - a, c - a
        p = np.cross(ray, e2)
        det = e1 @ p
        if abs(det) < 1e-12:
            continue
        s = origin - a
        u, q = s @ p / det, np.cross(s, e1)
        v, t = ray @ q / det, e2 @ q / det
        if u >= 0 and v >= 0 and u + v <= 1 and 1e-9 < t < best[0]:
            best = (t, i)
    return best


def test_coverage_is_what_brute_force_finds() -> None:
    shot, image = SHOTS["held"](), Image(480, 270)
    track = track_of(shot)
    cast = caster_of(SET)
    places = np.array([0, 80, 95])
    seen = seen_of(track, image, "width", cast, places)
    held = track.select_frames(np.array([70]))
    cover = cover_of(seen, held, image, "width", cast)
    place, turn, focal = shot.at(shot.frames)
    normals = np.cross(SET[:, 1] - SET[:, 0], SET[:, 2] - SET[:, 0])
    wrong = total = 0
    for k, at in enumerate(places.tolist()):
        for m in range(0, len(seen.pixels), 3):
            x, y = seen.pixels[m]
            local = np.array([(x / 480 - 0.5) * 36 / focal[at], (0.5 - y / 270) * 20.25 / focal[at], -1.0])
            ray = turn[at] @ local / np.linalg.norm(local)
            t, face = first_hit(place[at], ray)
            assert (face < 0) == (cover.why[k, m] == -1)
            if face < 0:
                continue
            point = place[at] + ray * t
            assert np.abs(point - seen.points_m[k, m]).max() < 1e-4
            normal = normals[face] * (-1 if normals[face] @ ray > 0 else 1)
            to = point - place[70]
            own = turn[70].T @ to
            u, v = 480 * (0.5 + own[0] / -own[2] * focal[70] / 36), 270 * (0.5 - own[1] / -own[2] * focal[70] / 20.25)
            if own[2] >= 0 or not (0 <= u <= 480 and 0 <= v <= 270):
                meant = OUTSIDE
            elif normal @ to >= 0:
                meant = TURNED_AWAY
            else:
                away, _ = first_hit(place[70], to / np.linalg.norm(to))
                meant = SEEN if away >= np.linalg.norm(to) * (1 - 2e-4) else HIDDEN
            total += 1
            wrong += meant != cover.why[k, m]
    assert total > 500 and wrong <= total * 0.004, (wrong, total)  # on edges a float decides
    assert {SEEN, OUTSIDE, HIDDEN} <= set(np.unique(cover.why[cover.why >= 0]).tolist())


def test_the_density_is_how_a_small_patch_grows() -> None:
    """Pixels of the projection for one of the render, from the corners of a small square on the surface."""
    shot, image = SHOTS["held"](), Image(480, 270)
    track, cast = track_of(shot), caster_of(SET)
    seen = seen_of(track, image, "width", cast, np.array([95]))
    cover = cover_of(seen, track.select_frames(np.array([70])), image, "width", cast)
    place, turn, focal = shot.at(shot.frames)

    def area(points: np.ndarray, at: int) -> float:
        own = (points - place[at]) @ turn[at]
        px = np.stack([own[:, 0] / -own[:, 2], own[:, 1] / -own[:, 2]], axis=1) * 480 * focal[at] / 36
        (a, b), (c, d) = px[1] - px[0], px[2] - px[0]
        return float(abs(a * d - b * c))

    checked = 0
    for m in np.flatnonzero(cover.covered[0])[::25]:
        point, normal = seen.points_m[0, m], seen.normals[0, m]
        one = np.cross(normal, [0.3, 0.9, 0.1])
        one /= np.linalg.norm(one)
        patch = point + 1e-5 * np.array([0 * one, one, np.cross(normal, one)])
        assert cover.density[0, m] == pytest.approx(np.sqrt(area(patch, 70) / area(patch, 95)), rel=1e-4)
        checked += 1
    assert checked > 5


def test_the_best_frames_are_the_best_of_all_sets_of_them() -> None:
    track, image, cast = track_of(SHOTS["whip"]()), Image(480, 270), caster_of(SET)
    seen = seen_of(track, image, "width", cast, np.arange(0, 96, 8))
    covers = [cover_of(seen, track.select_frames(np.array([i])), image, "width", cast) for i in range(0, 96, 16)]
    found = best_of(seen, covers)
    for size, best in enumerate(found, 1):
        each = {
            c: np.nanmean(shares(seen, np.any([covers[i].covered for i in c], axis=0)))
            for c in combinations(range(len(covers)), size)
        }
        assert best.share == pytest.approx(max(each.values())) and each[best.tried] == pytest.approx(best.share)
    assert found[0].share <= found[1].share <= found[2].share


def test_a_camera_covers_its_own_frame_and_the_document_says_so() -> None:
    track = track_of(SHOTS["still"]())
    found, arrays = coverage(track, IMAGE, "width", SET, [(track, IMAGE, "width")])
    assert found["share"] == 1.0 and all(r["density"] == pytest.approx(1.0) for r in found["frames"])
    assert arrays["why"].shape == arrays["density"].shape
    far = SET + np.array([5000.0, 0, 0])
    out = track_of(SHOTS["far_out"]())
    assert (
        coverage(out, IMAGE, "width", far, [(out.select_frames(np.array([0])), IMAGE, "width")])[0]["frames"][0][
            "share"
        ]
        > 0.999
    )
    assert len(proposals(track, IMAGE, "width", SET)[0]["frames"]) == 1
    with pytest.raises(BadInput, match="no surfaces"):
        coverage(track, IMAGE, "width", np.zeros((0, 3, 3)), [(track, IMAGE, "width")])
    with pytest.raises(BadInput, match="sees no surface of the set"):
        coverage(track, IMAGE, "width", SET + np.array([0, 0, 500.0]), [(track, IMAGE, "width")])
