"""Pictures of a set drawn by three, an outside renderer, in headless Chromium: a camera of its own, with its own projection."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Page

from module_pages import open_page

_PAGE = """<!doctype html><style>body { margin: 0; background: #e6e6e6 }</style>
<script type="importmap">{"imports": {"three": "/three/build/three.module.js"}}</script><script type="module">
import * as THREE from 'three';
import { SVGRenderer } from '/three/examples/jsm/renderers/SVGRenderer.js';
window.drawn = (given) => {
  const { lines, marks, rotation: r, place: p, fov, width, height } = JSON.parse(given);
  const scene = new THREE.Scene(), camera = new THREE.PerspectiveCamera(fov, width / height, 0.05, 2000);
  scene.background = new THREE.Color(0xe6e6e6);
  camera.matrixAutoUpdate = false;
  camera.matrix.set(r[0][0], r[0][1], r[0][2], p[0], r[1][0], r[1][1], r[1][2], p[1], r[2][0], r[2][1], r[2][2], p[2], 0, 0, 0, 1);
  camera.updateMatrixWorld(true);
  const shape = new THREE.BufferGeometry().setAttribute('position', new THREE.Float32BufferAttribute(lines.flat(2), 3));
  scene.add(new THREE.LineSegments(shape, new THREE.LineBasicMaterial({ color: 0x202020, linewidth: 2 })));
  const renderer = new SVGRenderer();
  renderer.setSize(width, height);
  document.body.replaceChildren(renderer.domElement);
  renderer.render(scene, camera);
  return Object.fromEntries(Object.entries(marks).map(([name, at]) => {
    const v = new THREE.Vector3(...at), ahead = v.clone().applyMatrix4(camera.matrixWorldInverse).z < 0;
    v.project(camera);
    return [name, ahead ? [(v.x + 1) / 2 * width, (1 - v.y) / 2 * height] : null];
  }));
};
window.ready = true;
</script>"""


def drawn(
    browser: Any, lines_m: np.ndarray, marks: dict[str, Any], position_m: np.ndarray, rotation: np.ndarray, vfov_deg: float, path: Path,
    size: tuple[int, int] = (1920, 1080),
) -> dict[str, list[float] | None]:  # fmt: skip
    """The set as three draws it, written as PNG; returns where three itself sees the marks, None behind its camera."""
    page: Page = browser.new_page(viewport={"width": size[0], "height": size[1]})
    open_page(page, _PAGE)
    given = {
        "lines": lines_m.tolist(), "marks": {n: np.asarray(p).tolist() for n, p in marks.items()}, "rotation": rotation.tolist(), "place": position_m.tolist(),
        "fov": vfov_deg, "width": size[0], "height": size[1],
    }  # fmt: skip
    seen: dict[str, list[float] | None] = page.evaluate("(given) => window.drawn(given)", json.dumps(given))
    page.screenshot(path=path)
    page.close()
    return seen
