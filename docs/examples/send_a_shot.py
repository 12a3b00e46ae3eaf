"""A camera file from a folder to a proven delivery, over the interface.

ANAXIS_TOKEN=... python send_a_shot.py http://127.0.0.1:8400 TW_010_camera_v001.usda zup-lh-cm usd
"""

import os
import sys
import time
from pathlib import Path

import httpx

server, path, package, kind = sys.argv[1:5]
token = {"Authorization": f"Bearer {os.environ['ANAXIS_TOKEN']}"}
api = httpx.Client(base_url=f"{server}/api/v1", headers=token, timeout=120)


def asked(method: str, at: str, **more: object) -> dict:
    answer = api.request(method, at, **more)
    if answer.is_error:
        sys.exit(f"{at}: {answer.json()['sentence']}")
    return answer.json()


file = (Path(path).name, Path(path).read_bytes())
sent = asked("POST", "/files", files={"file": file}, data={"show": "The Tidewright"})
print(f"{sent['file']}: {sent['state']}, shot {sent['shot']}, findings: {', '.join(sent['findings']) or 'none'}")
kept = asked("POST", f"/files/{sent['id']}/keep", json={"path": sent["file"], "show": "The Tidewright"})
done = asked("POST", f"/cameras/{kept['kept'][0]}/deliveries", json={"to": [package], "formats": [kind]})
for job in done["jobs"]:  # work that takes long is followed
    while (job := asked("GET", f"/jobs/{job['id']}"))["state"] in ("waiting", "running"):
        time.sleep(0.5)
    if job["state"] != "done":
        sys.exit(f"work {job['id']} {job['state']}: {job['said']}")
    done["deliveries"].append(asked("GET", f"/deliveries/{job['delivery']}"))
for one in done["deliveries"]:
    print(f"{one['verdict']}: {one['max_px']:.3g} px at worst, at frame {one['worst_frame']:g}")
    for file in one["files"]:
        Path(file["name"]).write_bytes(api.get(f"/deliveries/{one['id']}/files/{file['name']}").content)
