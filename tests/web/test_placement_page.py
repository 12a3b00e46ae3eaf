"""The Place station in the browser."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from scipy.spatial.transform import Rotation

from anaxis.core.checks.examine import take_camera
from anaxis.core.motion.placement import from_pairs
from anaxis.formats import read_file
from pages import fits, ready, take_in


@pytest.mark.browser
def test_a_camera_is_stood_elsewhere_on_the_page(page: Page, site: str, demo_files: dict[str, Path]) -> None:
    take_in(site, demo_files["TW_010"], "TW_010")
    page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm")
    ready(page)
    work = take_camera(read_file(demo_files["TW_010"]), None)
    names, where = work.landmarks.names[:4], work.landmarks.position_m[0, :4]
    turn = Rotation.from_euler("y", 30, degrees=True).as_matrix()
    goal = where @ turn.T + np.array([10.0, 0, -4])
    rows = "\n".join(
        f"{n} {x * 100:.6f} {-0 + z * 100:.6f} {y * 100:.6f}" for n, (x, y, z) in zip(names, goal.tolist(), strict=True)
    )
    page.get_by_text("From landmark pairs").click()
    page.fill("[name=pairs]", "nobody 1 2 3")
    page.get_by_role("button", name="Solve and place").click()
    expect(page.get_by_role("alert")).to_contain_text("nobody")
    page.get_by_text("From landmark pairs").click()
    page.fill("[name=pairs]", rows.splitlines()[0])
    expect(page.locator("#placed-look")).to_contain_text("1 pair is not enough")
    wrong = rows.replace(rows.split()[1], str(float(rows.split()[1]) + 40.0), 1)  # the first is 40 cm elsewhere
    page.fill("[name=pairs]", wrong)
    moved = goal.copy()
    moved[0, 0] += 0.4
    left = from_pairs(where, moved, False).residual_m
    expect(page.locator("#placed-look caption")).to_contain_text(f"the largest is at {names[int(left.argmax())]}")
    cells = page.locator("#placed-look tbody td:nth-child(2)").all_inner_texts()
    assert [float(c) for c in cells] == pytest.approx(left.tolist(), abs=1e-3)
    page.fill("[name=pairs]", rows)
    expect(page.locator("#placed-look td").first).to_have_text("0.0000")
    assert page.locator("svg.placed polyline.now").count() == 2
    page.get_by_role("button", name="Solve and place").click()
    ready(page)
    expect(page.locator("#panel")).to_contain_text("from 4 pairs; the largest error is at")
    expect(page.locator("#panel")).to_contain_text("0.0000 m and at most 0.00 px off")
    expect(page.locator(".stations")).to_contain_text("1 change")
    page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm")
    ready(page)
    page.get_by_text("Card at a landmark, facing the camera").click()
    page.get_by_role("button", name="Show card").last.click()
    expect(page.locator("#card")).to_contain_text("from the camera")
    page.get_by_text("Put one frame on a point and heading").click()
    page.fill("[name=point]", "0 0 150")
    page.fill("[name=heading]", "0")
    page.get_by_role("button", name="Place camera on point").click()
    ready(page)
    cells = [page.inner_text(f"[data-cell='theirs_position.{i}']") for i in range(3)]
    assert [float(c.split()[0]) for c in cells] == pytest.approx([0, 0, 150], abs=1e-3)
    page.get_by_role("button", name="Move scene to the origin").click()
    ready(page)
    expect(page.locator(".stations")).to_contain_text("3 changes")
    fits(page)
