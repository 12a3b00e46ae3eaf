"""A simulated package: a scene in its own numbers, a line to the server, and a small page of its own on another port."""

from __future__ import annotations

import asyncio
import contextlib
import json
from pathlib import Path
from typing import Any

import numpy as np
import uvicorn
from scipy.spatial.transform import Rotation
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, Response
from starlette.routing import Route, WebSocketRoute
from starlette.websockets import WebSocket, WebSocketDisconnect

from anaxis.simulated import space
from anaxis.simulated.client import PackageLine
from anaxis.simulated.scene import SimulatedCamera, SimulatedScene, rows_of, values_of
from anaxis.simulated.space import GROUPS, Rows, columns

_PAGE = Path(__file__).parent / "page"
_SHOWN = {
    "focal": ("focal length", "mm"),
    "hfov": ("horizontal field of view", "°"),
    "vfov": ("vertical field of view", "°"),
    "zoom": ("zoom", "px"),
}


class SimulatedPackage:
    """The package's process: what its page asks for, and what the line tells it."""

    def __init__(self, scene: SimulatedScene, server: str, show: str, token: str) -> None:
        self.scene, self.frame = scene, 0.0
        camera = self.chosen
        self.frame = float(camera.frames[0]) if camera is not None and len(camera.frames) else 1.0
        self.line = PackageLine(scene, server, show, token, self._changed, self._look)
        self._pages: set[WebSocket] = set()
        self._tasks: set[asyncio.Task[None]] = set()

    @property
    def chosen(self) -> SimulatedCamera | None:
        return self.scene.cameras.get(self.scene.selected or "") or next(iter(self.scene.cameras.values()), None)

    def app(self) -> Starlette:
        @contextlib.asynccontextmanager
        async def lifespan(app: Starlette) -> Any:
            task = asyncio.create_task(self.line.line.run())
            yield
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)
            self.scene.write_anew()

        routes = [
            Route("/", lambda r: FileResponse(_PAGE / "package.html")),
            Route("/page/{name}", self._file),
            Route("/state", self._state),
            Route("/camera/{key}", self._camera),
            WebSocketRoute("/line", self._page),
        ]
        return Starlette(routes=routes, lifespan=lifespan)

    # What the page is told

    async def _file(self, request: Request) -> Response:
        name = request.path_params["name"]
        if name not in ("package.js", "package.css"):
            return Response(status_code=404)
        return FileResponse(_PAGE / name)

    def state(self) -> dict[str, Any]:
        scene, profile, chosen = self.scene, self.scene.profile, self.chosen
        label, unit = _SHOWN[profile["lens"].get("shown", "focal")]
        return {
            "name": scene.name, "profile": profile["label"], "order": profile["rotation"]["order"], "unit": _unit(profile), "shown": label,
            "shown_unit": unit, "film_unit": profile["lens"].get("film_unit", "mm"), "habits": [h["code"] for h in profile.get("habits", ()) if h.get("on", True)],
            "cameras": [c.entry() for c in scene.cameras.values()], "selected": chosen.id if chosen else None, "frame": self.frame,
            "state": self.line.line.state, "said": self.line.line.said, "waiting": len(scene.outbox), "last": scene.last, "have": scene.have,
        }  # fmt: skip

    async def _state(self, request: Request) -> Response:
        return JSONResponse(self.state())

    async def _camera(self, request: Request) -> Response:
        camera = self.scene.cameras.get(request.path_params["key"])
        if camera is None:
            return Response(status_code=404)
        marks = {m["name"]: m["position"] for m in self.scene.marks}
        return JSONResponse(
            {**self.drawn(camera, camera.frames), "marks": marks, "lines": self.scene.lines, **camera.entry()}
        )

    def drawn(self, camera: SimulatedCamera, frames: Rows) -> dict[str, Any]:
        place, there = camera.places(frames)
        rows = camera.rows[place[there]]
        return {"camera": camera.id, "frames": camera.frames[place[there]].tolist(), "values": values_of(rows, list(GROUPS)),
                "views": space.views(self.scene.profile, rows, camera.image).reshape(-1, 12).tolist()}  # fmt: skip

    def _changed(self, key: str, frames: list[float]) -> None:
        camera = self.scene.cameras.get(key)
        if camera is not None:
            self._tell(
                {"t": "frames", **self.drawn(camera, np.array(frames))}
                if len(frames) < 400
                else {"t": "whole", "camera": key}
            )
        self._tell({"t": "state", **self.state()})

    def _look(self, frame: float) -> None:
        self.frame = frame
        self._tell({"t": "look", "frame": frame})

    def _tell(self, message: dict[str, Any]) -> None:
        for page in list(self._pages):
            task = asyncio.ensure_future(self._send(page, message))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def _send(self, page: WebSocket, message: dict[str, Any]) -> None:
        try:
            await page.send_text(json.dumps(message))
        except (RuntimeError, WebSocketDisconnect):
            self._pages.discard(page)

    # What the page does

    async def _page(self, socket: WebSocket) -> None:
        origin = socket.headers.get("origin", "")
        if origin.partition("://")[2] != socket.headers.get("host", ""):
            await socket.close(1008)
            return
        await socket.accept()
        self._pages.add(socket)
        with contextlib.suppress(WebSocketDisconnect):
            while True:
                await self.do(await socket.receive_json())
        self._pages.discard(socket)

    async def do(self, asked: dict[str, Any]) -> None:
        """One thing done on the page: choose, scrub, set, turn, move."""
        what = asked["do"]
        if what == "choose" and asked["camera"] in self.scene.cameras:
            self.scene.selected = asked["camera"]
            await self.line.line.send({"type": "selection", "camera": asked["camera"]})
            self._tell({"t": "state", **self.state()})
        elif what == "look":
            self.frame = float(asked["frame"])
            await self.line.line.send({"type": "playhead", "camera": self.scene.selected, "frame": self.frame})
        elif what in ("set", "turn", "move"):
            await self._edit(what, asked)

    async def _edit(self, what: str, asked: dict[str, Any]) -> None:
        camera = self.chosen
        if camera is None:
            return
        at = float(asked.get("frame", self.frame))
        frames = {
            "here": [at],
            "on": camera.frames[camera.frames >= at - 1e-3].tolist(),
            "all": camera.frames.tolist(),
        }[asked.get("over", "here")]
        place, there = camera.places(np.array(frames))
        if not there.all() or not frames:
            return
        rows = camera.rows[place].copy()
        groups = self._edited(what, asked, camera, rows)
        await self.line.make(camera.id, frames, values_of(rows, groups))

    def _edited(self, what: str, asked: dict[str, Any], camera: SimulatedCamera, rows: Rows) -> list[str]:
        """What an edit makes of rows (n, 16), in place; the groups that it changes."""
        profile = self.scene.profile
        if what == "set":
            group = asked["group"]
            typed = rows_of(1, {group: [asked["value"]]})[0]
            rows[:, columns(group)] = typed[columns(group)]
            return [group]
        turned = space.matrices(profile, rows[:, columns("rotation")])
        own, world = space.sides(profile["camera"]), space.sides(profile["world"])
        right, up, ahead = (turned @ v for v in (own[:, 0], own[:, 1], -own[:, 2]))
        if what == "move":
            step = (
                np.array([asked.get("right", 0.0), asked.get("up", 0.0), asked.get("ahead", 0.0)])
                / profile["metres_per_unit"]
            )
            rows[:, columns("position")] += right * step[0] + up * step[1] + ahead * step[2]
            return ["position"]
        hand = np.linalg.det(world)
        about_up = Rotation.from_rotvec(np.radians(asked.get("left_deg", 0.0)) * hand * world[:, 1]).as_matrix()
        about_right = Rotation.from_rotvec(np.radians(asked.get("up_deg", 0.0)) * hand * right).as_matrix()
        part = columns("rotation")
        rows[:, part] = space.angles(profile, about_up @ about_right @ turned, rows[:, part])
        return ["rotation"]


def _unit(profile: dict[str, Any]) -> str:
    if profile["lens"].get("shown") == "zoom":
        return "px"
    return {0.001: "mm", 0.01: "cm", 1.0: "m"}.get(profile["metres_per_unit"], f"x {profile['metres_per_unit']:g} m")


def run(scene: SimulatedScene, server: str, show: str, token: str, port: int) -> None:
    """Until it is stopped."""
    package = SimulatedPackage(scene, server, show, token)
    config = uvicorn.Config(
        package.app(), host="127.0.0.1", port=port, log_level="warning", timeout_graceful_shutdown=2
    )
    uvicorn.Server(config).run()
