"""Makes the pictures of the documents: one screenshot a view from the demo data, and the axes drawings.

Run with ``make screenshots``. Uses a throwaway store, so nobody's data is in the way or in a picture.
"""

from __future__ import annotations

import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory

import cv2
import numpy as np
import uvicorn
from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "demo"))

import solve  # noqa: E402
from anaxis.core.camera.distortion.distortion import distortion_from_document  # noqa: E402
from anaxis.core.camera.lens import Image  # noqa: E402
from anaxis.core.camera.plate.overscan import overscan_of  # noqa: E402
from anaxis.core.camera.plate.window import Window  # noqa: E402
from anaxis.core.camera.projection import projection_of  # noqa: E402
from anaxis.core.outgoing import Outgoing  # noqa: E402
from anaxis.core.scene.landmarks import NO_LANDMARKS  # noqa: E402
from anaxis.core.scene.picture import picture_of  # noqa: E402
from anaxis.core.space.axes import Convention  # noqa: E402
from anaxis.formats import read_file  # noqa: E402
from anaxis.formats.tables.write import write_columns  # noqa: E402
from anaxis.library.returned import Meant  # noqa: E402
from anaxis.packages import shipped_profiles  # noqa: E402
from anaxis.packages.model import profile_from_dict  # noqa: E402
from anaxis.program import anaxis_command  # noqa: E402
from anaxis.standin.package import open_as_package  # noqa: E402
from anaxis.store.local_postgres import LocalPostgres, free_port  # noqa: E402
from anaxis.web.app import create_app  # noqa: E402
from anaxis.web.drawings.axes import axes_svg  # noqa: E402
from anaxis.web.drawings.distortion import distortion_svg  # noqa: E402
from make_scenes import make_all  # noqa: E402
from run import PERSON, live_packages, load_demo  # noqa: E402

STYLE = (
    "<style>line{stroke:#1c2530}polygon{fill:#1c2530}text{fill:#1c2530;font:500 13px monospace}"
    ".eye line,.eye polygon{stroke:#555c66;stroke-width:.8;fill:none}</style>"
)


def pairs_elsewhere(page: Page) -> str:
    """Where four of TW_010's landmarks stand in another scene, turned and moved, one of them 12 cm off."""
    rows = page.request.get("/cameras/1/landmarks.json?version=1&axes=zup-lh-cm").json()["landmarks"][:4]
    turn, out = np.radians(30), []
    for i, row in enumerate(rows):
        x, y, z = np.ravel(row["position"])[:3]
        at = (x * np.cos(turn) - y * np.sin(turn) + 1500 + 12 * (i == 2), x * np.sin(turn) + y * np.cos(turn) - 800, z)
        out.append(f"{row['name']} {at[0]:.1f} {at[1]:.1f} {at[2]:.1f}")
    return "\n".join(out)


def draw_axes(folder: Path) -> None:
    """The axes of canonical space and of each shipped profile, for docs/conventions.md."""
    folder.mkdir(parents=True, exist_ok=True)
    drawn = {"canonical": Convention(), **{k: p.convention for k, p in shipped_profiles().items()}}
    for key, convention in drawn.items():
        svg = str(axes_svg(convention, key)).replace("<svg ", '<svg xmlns="http://www.w3.org/2000/svg" ', 1)
        cut = svg.index(">") + 1
        paper = '<rect width="100%" height="100%" fill="#fcfaf4"/>'
        (folder / f"axes-{key}.svg").write_text(svg[:cut] + STYLE + paper + svg[cut:] + "\n")


def draw_distortion(path: Path) -> None:
    """TW_050's lens, for docs/conventions.md."""
    bent = distortion_from_document(solve.DISTORTION)
    right, up = solve.half_tangents(solve.jib())
    window = Window(*(np.array([v]) for v in (-right, right, -up, up)))
    image = Image(*solve.PLATE, solve.SQUEEZE)
    svg = str(distortion_svg(bent, window, image, overscan_of(bent, window, image).overscan))
    cut = svg.index(">", svg.index("<svg")) + 1
    style = (
        "<style>path,rect{fill:none;stroke:#1c2530}.pinhole{stroke:#c9c2b0}.contour{stroke-dasharray:1 3}text{font:11px monospace;stroke:none}"
        ".render-edge{stroke-dasharray:7 4}.empty{fill:url(#nothing);stroke:none}</style>"
    )
    path.write_text(
        svg[:cut].replace("<svg ", '<svg xmlns="http://www.w3.org/2000/svg" ', 1) + style + svg[cut:] + "\n"
    )


def ready(page: Page) -> None:
    while not page.evaluate("window.anaxisReady === true"):
        page.wait_for_timeout(50)


def shoot(page: Page, name: str, url: str) -> None:
    page.goto(url)
    if "/cameras/" in url or "/deliveries/" in url or "/returns/" in url or "/take-in/" in url:
        ready(page)
    page.wait_for_timeout(600)
    page.screenshot(path=ROOT / "docs" / "screenshots" / f"{name}.png")


def derived(page: Page) -> None:
    """The reel's cut on its strip, the bell framed in its sphere, what the wheel house's projection covers."""

    def of(name: str) -> str:
        page.goto("/")
        return str(page.get_by_role("link", name=name, exact=True).first.get_attribute("href"))

    shoot(page, "join-cut", f"{of('joined')}/cut")
    sphere = of("bell_framing")
    page.goto(f"{sphere}/sphere")
    ready(page)
    page.wait_for_timeout(8000)  # its proxies are being made
    shoot(page, "sphere", f"{sphere}/sphere#f=1024")
    page.goto(f"{of('shotcam_projection_f96')}/coverage?at=41")
    page.wait_for_timeout(600)
    page.screenshot(path=ROOT / "docs" / "screenshots" / "coverage.png")


def came_back(page: Page, folder: Path) -> None:
    """TW_020's delivery as a package with two habits makes of it, handed in; and that package's own page."""
    document = shipped_profiles()["zup-lh-cm"].model_dump(mode="json")
    habits = [{"code": "world_turn", "axis": "Z", "angle_deg": 90}, {"code": "frame_offset", "frames": 1}]
    truth = profile_from_dict({**document, "habits": habits}, "the package")
    sent = folder / "sent.usd"
    sent.write_bytes(page.request.get("/deliveries/3/files/TW_020.shotcam.zup-lh-cm.usd").body())
    seen = open_as_package(sent, truth, Image(1920, 1080))
    outgoing = Outgoing(seen.track, truth.convention, seen.image, "width", NO_LANDMARKS, ())
    back = write_columns([outgoing], folder, "TW_020_came_back")[0]
    page.goto("/cameras/2?station=prove&to=zup-lh-cm")
    ready(page)
    page.set_input_files("#return-form input[name=file]", back)
    page.get_by_role("button", name="Measure and explain").click()
    page.wait_for_url("**/returns/*")
    shoot(page, "return", page.url)
    page.get_by_role("button", name="Save as habit and deliver again").first.click()
    page.wait_for_url("**/deliveries/*")
    shoot(page, "package", "/packages/zup-lh-cm-here")


def from_a_picture(page: Page, folder: Path) -> None:
    """TW_010 at frame 1040 as a package shows it that makes the film back a third larger: landmarks found, and explained."""
    scene = read_file(make_all(folder / "again")[0])
    meant = Meant.of(scene, None, picture_of(scene, None, None))
    track, image = meant.work.done, Image(1920, 1080)
    at = int(np.abs(track.frames - 1040).argmin())
    lens = track.lens
    wide = replace(
        track, lens=replace(lens, film_width_mm=lens.film_width_mm * 1.3, film_height_mm=lens.film_height_mm * 1.3)
    )
    px, depth = projection_of(wide.select_frames(np.array([at])), image, "width").project(
        meant.work.lines_m.reshape(-1, 3)
    )
    drawn = np.full((1080, 1920, 3), 225, np.uint8)
    ahead = (depth[0].reshape(-1, 2) > 0.3).all(axis=1)
    for a, b in px[0].reshape(-1, 2, 2)[ahead] - 0.5:
        start, end = (tuple(int(v) for v in np.round(np.clip(p, -9000, 9000) * 16)) for p in (a, b))
        cv2.line(drawn, start, end, (60, 50, 40), 2, cv2.LINE_AA, 4)
    still = folder / "engine_1040.png"
    cv2.imwrite(str(still), drawn)
    page.goto("/cameras/1?station=prove&to=zup-lh-cm")
    ready(page)
    form = page.locator("#screenshot-form")
    form.locator("[name=file]").set_input_files(still)
    form.locator("[name=frame]").fill("1040")
    form.get_by_role("button", name="Upload screenshots").click()
    page.wait_for_url("**/screenshots/*")
    page.get_by_role("button", name="Find landmarks").click()
    page.get_by_text("Anaxis proposes").wait_for()
    page.get_by_role("button", name="Explain picture").click()
    page.get_by_text("Cause found").wait_for()
    ready(page)
    page.wait_for_timeout(600)
    page.screenshot(path=ROOT / "docs" / "screenshots" / "screenshot.png")


def live(page: Page, port: int, folder: Path) -> None:
    """Two simulated packages linked both ways, a camera turned in one of them."""
    commands = [
        (name, [str(folder / f"{name}.json") if a.endswith(".json") else a for a in args])
        for name, args in live_packages(port)
    ]
    running = [subprocess.Popen(anaxis_command(*args)) for _, args in commands]
    try:
        while (page.goto("/shows/1/live") and page.locator("#board").count() == 0) or not page.evaluate(
            "window.anaxisReady === true"
        ):
            page.wait_for_timeout(800)
        page.select_option("select[name=way]", "both")
        page.select_option(".linking [name=timing]", "frame_for_frame")
        page.get_by_role("button", name="Link cameras").click()
        page.get_by_text("Linked: ").wait_for()
        ready(page)
        address = next(
            f"http://127.0.0.1:{args[args.index('--port') + 1]}" for name, args in commands if name == "animation"
        )
        package = page.context.browser.new_page()  # type: ignore[union-attr]
        package.goto(address)
        package.wait_for_timeout(1500)
        package.locator("#frame").fill("60")
        box = package.locator("#lens").bounding_box()
        assert box is not None
        package.mouse.move(box["x"] + 200, box["y"] + 200)
        package.mouse.down()
        package.mouse.move(box["x"] + 230, box["y"] + 190, steps=6)
        package.mouse.up()
        page.wait_for_timeout(2500)
        package.close()
        page.screenshot(path=ROOT / "docs" / "screenshots" / "live.png")
    finally:
        for process in running:
            process.terminate()
            process.wait(20)


def main() -> None:
    draw_axes(ROOT / "docs" / "pictures")
    draw_distortion(ROOT / "docs" / "pictures" / "distortion.svg")
    with TemporaryDirectory() as folder, LocalPostgres(Path(folder) / "pg", throwaway=True) as database:
        load_demo(database.url)
        port = free_port()
        server = uvicorn.Server(
            uvicorn.Config(create_app(database.url, own_worker=True, visitor=PERSON), port=port, log_level="error")
        )
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        while not server.started:
            time.sleep(0.05)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path="/usr/bin/chromium-headless-shell", args=["--no-sandbox", "--disable-gpu"]
            )
            page = browser.new_page(viewport={"width": 1280, "height": 800}, base_url=f"http://127.0.0.1:{port}")
            shoot(page, "shots", "/")
            page.goto("/take-in")
            page.set_input_files("#file", make_all(Path(folder) / "files")[3])
            page.wait_for_url("**/take-in/*")
            shoot(page, "take-in-review", page.url)
            shoot(page, "camera", "/cameras/1?station=take-in&to=zup-lh-cm#f=1060")
            shoot(page, "camera-clean", "/cameras/4?station=clean&to=zup-lh-cm#f=140")
            page.goto("/cameras/1?station=place&to=zup-lh-cm&axes=zup-lh-cm#f=1060")
            ready(page)
            page.get_by_text("From landmark pairs").click()
            page.fill("[name=pairs]", pairs_elsewhere(page))
            page.wait_for_selector("svg.placed")
            page.evaluate("document.getElementById('panel').scrollTop = 215")
            page.wait_for_timeout(600)
            page.screenshot(path=ROOT / "docs" / "screenshots" / "camera-place.png")
            page.goto("/cameras/1/set?to=zup-lh-cm")
            page.get_by_role("button", name="Measure set").click()
            page.wait_for_selector("#set-proof table")
            page.evaluate("scrollTo(0, 0)")
            page.wait_for_timeout(300)
            page.screenshot(path=ROOT / "docs" / "screenshots" / "set.png")
            from_a_picture(page, Path(folder))
            page.goto("/cameras/2?station=lens&to=zup-lh-cm#f=120")
            ready(page)
            page.wait_for_timeout(600)
            page.fill("[data-lens=hfov_deg]", "50")
            page.wait_for_timeout(600)
            page.evaluate("document.getElementById('panel').scrollTop = 300")
            page.wait_for_timeout(300)
            page.screenshot(path=ROOT / "docs" / "screenshots" / "camera-lens.png")
            page.goto("/")
            solved = page.locator("tr", has_text="TW_050").locator("a", has_text="shotcam").get_attribute("href")
            page.goto(f"{solved}?station=plate&to=zup-lh-cm#f=1050")
            page.wait_for_selector("text=96 proxies", timeout=120_000)
            page.goto("/")
            shoot(page, "camera-plate", f"{solved}?station=plate&to=zup-lh-cm#f=1050")
            page.goto("/cameras/1?station=time&to=zup-lh-cm#f=1060")
            ready(page)
            page.fill("[name=param_rate]", "30")
            page.locator("[name=param_rate]").press("Tab")
            page.wait_for_timeout(800)
            page.screenshot(path=ROOT / "docs" / "screenshots" / "camera-time.png")
            page.goto("/cameras/2?station=deliver&to=zup-lh-cm&there=0#f=190")
            ready(page)
            page.check("input[value=json]")
            page.fill("#reduce_px", "0.5")
            page.get_by_role("button", name="Preview keys", exact=True).click()
            page.wait_for_selector("svg.keys", timeout=30_000)
            page.locator("svg.keys").scroll_into_view_if_needed()
            page.wait_for_timeout(400)
            page.screenshot(path=ROOT / "docs" / "screenshots" / "deliver.png")
            shoot(page, "proof", "/deliveries/4")
            shoot(page, "plan", "/shows/1/plan")
            live(page, port, Path(folder))
            derived(page)
            came_back(page, Path(folder))
            browser.close()
        server.should_exit = True
        thread.join(10)


if __name__ == "__main__":
    main()
