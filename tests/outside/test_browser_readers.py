"""three's loaders and the glTF validator on the shots, in headless Chromium; nothing is fetched from anywhere."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page

from module_pages import open_page
from readers import CAMERAS, bound_px, off_px, seconds_of, written

pytestmark = pytest.mark.browser
PAGE = """<!doctype html><script type="importmap">{"imports": {"three": "/three/build/three.module.js"}}</script>
<script type="module">
import * as THREE from 'three';
import { GLTFLoader } from '/three/examples/jsm/loaders/GLTFLoader.js';
import { ColladaLoader } from '/three/examples/jsm/loaders/ColladaLoader.js';
const bytes = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
function played(scene, clips, camera, times) {
  const mixer = new THREE.AnimationMixer(scene);
  for (const clip of clips) { const a = mixer.clipAction(clip); a.setLoop(THREE.LoopOnce); a.clampWhenFinished = true; a.play(); }
  return times.map((t) => { if (clips.length) mixer.setTime(t); scene.updateMatrixWorld(true);
    return [...camera.matrixWorld.elements, camera.fov, camera.aspect]; });
}
window.seen = {
  gltf: (text, times) => new Promise((done, failed) => new GLTFLoader().parse(bytes(text).buffer, '', (g) =>
    done(played(g.scene, g.animations, g.cameras[0], times)), failed)),
  collada: async (text, times) => { const c = new ColladaLoader().parse(new TextDecoder().decode(bytes(text)), '');
    let camera; c.scene.traverse((n) => { if (n.isCamera) camera = n; });
    return played(c.scene, c.scene.animations || [], camera, times); },
};
window.ready = true;
</script>"""
# In a frame of its own: it wants the `module` of another kind of program beside it.
FRAME = """<!doctype html><script>self.module = {exports: {}}; self.exports = self.module.exports;</script>
<script src="/gltf-validator/gltf_validator.dart.js"></script><script>
self.validated = async (text) => JSON.stringify(await self.module.exports.validateBytes(Uint8Array.from(atob(text), (c) => c.charCodeAt(0)), {}));
</script>"""


@pytest.fixture(scope="module")
def reader(browser: Any) -> Iterator[Page]:
    page: Page = browser.new_page()
    open_page(page, PAGE, validator=FRAME)
    yield page
    page.close()


@pytest.mark.parametrize("format_key", ["gltf", "collada"])
@pytest.mark.parametrize("name", [*CAMERAS, "zoom"])
def test_three_sees_the_camera(reader: Page, name: str, format_key: str, tmp_path: Path) -> None:
    shot, done = written(name, format_key, tmp_path)
    text = base64.b64encode(done.files[0].read_bytes()).decode()
    every = seconds_of(shot, done)
    at = np.unique(np.linspace(0, len(every) - 1, 24).round().astype(int))
    # The very end of a clip is where it begins anew.
    times = [float(min(t, every[-1] - 1e-6)) if len(every) > 1 else 0.0 for t in every[at]]
    rows = np.array(reader.evaluate(f"([text, times]) => window.seen.{format_key}(text, times)", [text, times]))
    matrices = np.swapaxes(rows[:, :16].reshape(-1, 4, 4), 1, 2)
    aspect = rows[0, 17]
    assert aspect == pytest.approx(shot.width_px / shot.height_px, rel=1e-6)
    focal = shot.at(shot.frames[at])[2]
    # No lens that moves is taken by this reader in glTF: the pose beside it must arrive all the same.
    moves = name in ("primes", "zoom")
    tan_x = shot.film_mm[0] / 2 / focal if moves else np.tan(np.radians(rows[:, 16]) / 2) * aspect
    # Its times are single precision: at 3,600 s a frame is told to a few thousandths.
    late = {"frame_86400": 0.6, "whip": 2.0}.get(name, 0.2)
    assert off_px(shot, matrices[:, :3, 3], matrices[:, :3, :3], tan_x, aspect, at) <= bound_px(name, format_key) + late


@pytest.mark.parametrize("keys", [None, 0.5])
@pytest.mark.parametrize("name", [*CAMERAS, "zoom"])
def test_the_validator_has_nothing_to_say(reader: Page, name: str, keys: float | None, tmp_path: Path) -> None:
    from anaxis.delivery.deliver import deliver_all
    from anaxis.delivery.options import DeliveryOptions
    from anaxis.packages import find_profile
    from readers import shot_of
    from test_ordinary_shots import leaving

    done = deliver_all(
        [leaving(shot_of(name))], find_profile("yup-rh-m"), "gltf", tmp_path, DeliveryOptions(reduce_px=keys)
    )[0]
    told = reader.evaluate(
        """async (text) => { let frame = document.querySelector('iframe');
           if (!frame) { frame = document.createElement('iframe'); frame.src = '/validator';
             await new Promise((done) => { frame.onload = done; document.body.append(frame); }); }
           return await frame.contentWindow.validated(text); }""",
        base64.b64encode(done.files[0].read_bytes()).decode(),
    )
    report = json.loads(told)
    said = [m for m in report["issues"]["messages"] if m["severity"] <= 1]  # errors and warnings
    # The pointer extension is no part of what the validator knows: it says so, and that is no fault of the file.
    assert [m for m in said if m["code"] not in ("UNSUPPORTED_EXTENSION",)] == []
    assert report["info"]["animationCount"] >= 1
