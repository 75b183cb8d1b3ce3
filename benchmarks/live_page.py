"""What the live page costs the loop, and the wire: ``python -m benchmarks.live_page``."""

from __future__ import annotations

import multiprocessing
import time
from typing import Any

import numpy as np

from benchmarks.drive_sites import hall, map_of
from vinecompass import Live, Navigator, Settings, SimulatedLink, demo_file, read_robot
from vinecompass.settings import changed_settings

SECONDS = 20.0
SIDE = 100.0
"""Metres: at 0.05 m a map of four million cells."""
PARTICLES = 2000


def listen(url: str, told: Any) -> None:
    """Be a browser that reads all that it is told, and count it."""
    import asyncio

    from tornado.httpclient import HTTPRequest
    from tornado.websocket import websocket_connect

    async def read() -> None:
        origin = url.rstrip("/")
        page = await websocket_connect(
            HTTPRequest(origin.replace("http", "ws") + "/talk", headers={"Origin": origin}), max_message_size=2**26
        )
        begun, size, count = time.monotonic(), 0, 0
        while (message := await page.read_message()) is not None:
            # The map comes once, and first.
            if '"floor"' not in message[:40] and '"kind"' not in message[:40]:
                size, count = size + len(message), count + 1
            else:
                begun = time.monotonic()
            told.put((count, size, time.monotonic() - begun))

    asyncio.run(read())


def drive(with_page: bool) -> tuple[np.ndarray, np.ndarray, tuple[int, int, float]]:
    """Drive for a while in real time; return how long steps and hand-overs took, s, and what the page was told."""
    people = [{"name": "worker", "speed": 0.8, "route": [(20.0, 52.0), (40.0, 52.0)]}]
    site = hall(SIDE, SIDE, people=people, start=(10.0, 50.0, 0.0))
    settings = changed_settings(Settings(), {"localization.least_particles": PARTICLES})
    robot = read_robot(demo_file("robot.toml"))
    link = SimulatedLink(site, robot, seed=1)
    navigator = Navigator(
        map_of(site), robot, link.pose, [90.0, 50.0, 0.0], settings=settings, seed=1, plans_beside=True
    )
    told: Any = multiprocessing.Queue()
    live = Live(navigator, link=link) if with_page else None
    listener = multiprocessing.Process(target=listen, args=(live.url if live else "", told), daemon=True)
    if live is not None:
        listener.start()
    took, handing, begun, first = [], [], time.monotonic(), link.t
    while link.t - first < SECONDS:
        readings = link.exchange(navigator.command)
        start = time.perf_counter()
        navigator.step(readings.t, readings.scans["front"], readings.odometry, readings.people)
        stepped = time.perf_counter()
        if live is not None:
            live.look()
        took.append(stepped - start)
        handing.append(time.perf_counter() - stepped)
        time.sleep(max(begun + link.t - first - time.monotonic(), 0.0))
    last = (0, 0, 1.0)
    while not told.empty():
        last = told.get()
    if live is not None:
        listener.terminate()
        live._talk.end()
    return np.array(took[100:]), np.array(handing[100:]), last


def main() -> None:
    """Drive with and without a page, in turn, and say what differs."""
    drive(False)
    without, beside, handed = [], [], []
    for _ in range(3):
        without.append(drive(False)[0])
        took, handing, (count, size, seconds) = drive(True)
        beside.append(took)
        handed.append(handing)
        print(f"told {count / seconds:.1f} times a second, {size / seconds / 1000.0:.0f} kB/s", flush=True)
    alone, looked_at = np.concatenate(without), np.concatenate(beside)
    share = np.concatenate(handed).sum() / looked_at.sum()
    print(f"handing over takes {100.0 * share:.1f} % of what the steps take; besides, the page needs a core's time:")
    for name, of in (("mean", np.mean), ("median", np.median), ("99 %", lambda each: np.quantile(each, 0.99))):
        before, after = 1000.0 * of(alone), 1000.0 * of(looked_at)
        more = 100.0 * (after / before - 1.0)
        print(f"{name} of a step: {before:.2f} ms without a page, {after:.2f} with ({more:+.1f} %)")


if __name__ == "__main__":
    main()
