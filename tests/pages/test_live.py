import contextlib
import http.client
import json
import re
import socket
import threading
import time
import unittest
from urllib.parse import urlsplit

import numpy as np

from tests.pages.browser import browser_or_skip, opened
from tests.support import assert_input_error, demo_file, new_folder, robot, run, short_mapping, site
from vinecompass import (
    Live,
    LiveRecording,
    Navigator,
    Settings,
    SimulatedLink,
    read_run,
    record_live,
    run_live,
    write_map,
)
from vinecompass.pages.orders import Desk, read_order
from vinecompass.settings import changed_settings

GOAL = [36.9, 21.5, -1.57]


def loop(goal=GOAL, **options):
    """A simulated robot at the dock, and its navigator on the map of a short run."""
    link = SimulatedLink(site(), robot(), seed=1)
    return link, Navigator(short_mapping().grid, robot(), link.pose, goal, seed=1, **options)


@contextlib.contextmanager
def driven(pace, **options):
    """A page beside a loop that goes on in a thread of its own."""
    link, navigator = loop()
    with Live(navigator, stops=site().stops, link=link, **options) as live:
        over = threading.Event()

        def watch(_):
            if over.is_set():
                raise SystemExit

        thread = threading.Thread(target=run_live, args=(link, live), kwargs={"pace": pace, "watch": watch})
        thread.start()
        try:
            yield live, link
        finally:
            over.set()
            thread.join()


def wait_for(what, seconds=20.0):
    """Wait until something is so."""
    end = time.monotonic() + seconds
    while not what():
        if time.monotonic() > end:
            raise AssertionError("it never came so")
        time.sleep(0.05)


class Orders(unittest.TestCase):
    def test_what_is_ordered_is_done_and_what_cannot_be_is_told(self):
        link, navigator = loop()
        desk = Desk(navigator, [], link=link)
        for _ in range(40):
            readings = link.exchange(navigator.command)
            navigator.step(readings.t, readings.scans["front"], readings.odometry, readings.people)

        def told(**order):
            return desk.do(read_order(json.dumps(order)))

        def go_on(seconds):
            for _ in range(round(20 * seconds)):
                readings = link.exchange(navigator.command)
                navigator.step(readings.t, readings.scans["front"], readings.odometry, readings.people)

        self.assertIn("go to pointed at", told(do="go", pose=[36.5, 22.0, 0.0]))
        self.assertIn("then go to", told(do="go", pose=[36.5, 23.0, 0.0], afterwards=True, name="second"))
        np.testing.assert_allclose(navigator.goal.pose, [36.5, 22.0, 0.0])
        self.assertIn("refused", told(do="go", pose=[500.0, 0.0, 0.0]))
        solids = len(link.simulator.site.solids)
        self.assertIn("crate", told(do="crate", place=[36.0, 19.0]))
        self.assertEqual(len(link.simulator.site.solids), solids + 1)
        at = link.pose[:2].tolist()
        self.assertIn("refused", told(do="crate", place=at))
        people = len(link.simulator.people)
        self.assertIn("walks", told(do="walker", route=[[30.0, 18.0], [33.0, 18.0]]))
        self.assertEqual(len(link.simulator.people), people + 1)
        zone = {"name": "wet", "kind": "closed", "polygon": [[35.0, 20.5], [36.0, 20.5], [36.0, 21.5], [35.0, 21.5]]}
        self.assertIn("zone", told(do="zone", zone=zone))
        self.assertTrue(np.isinf(navigator.costmap.explain(35.5, 21.0)["zones"].factor))
        self.assertIn("inf", told(do="why", place=[35.5, 21.0]))
        self.assertIn("refused", told(do="unzone", name="dry"))
        self.assertIn("removed", told(do="unzone", name="wet"))
        self.assertFalse(np.isinf(navigator.costmap.explain(35.5, 21.0)["zones"].factor))
        before = navigator.costmap.prices.copy()
        self.assertEqual(told(do="set", key="costs.comfort", value=1.5), "costs.comfort = 1.5")
        self.assertGreater(np.sum(navigator.costmap.prices > before), 1000)
        for key, value, why in (
            ("localization.beams", 40, "while it drives"),
            ("costs.comfort", 99.0, "costs.comfort"),
            ("cost.comfort", 1.0, "perhaps `costs.comfort`"),
        ):
            self.assertIn(why, told(do="set", key=key, value=value))
        self.assertEqual(told(do="hold"), "hold")
        go_on(2.0)
        self.assertTrue(navigator.command.standing)
        told(do="drive", ahead=0.5, turn=0.0)
        go_on(0.4)
        self.assertGreater(navigator.command.speed, 0.05)
        # Whoever lets go of the key stops the robot.
        go_on(3.0)
        self.assertTrue(navigator.command.standing)
        # Said to be back to front, the robot has a second opinion at once.
        x, y, heading = navigator.pose
        told(do="here", pose=[x, y, heading + np.pi])
        go_on(0.3)
        self.assertTrue(navigator.second_opinion.warning)
        told(do="cancel")
        self.assertTrue(navigator.state.over)
        for text in (
            "",
            "{",
            "[]",
            '{"do": "fly"}',
            '{"do": "go", "pose": [1, 2]}',
            '{"do": "go", "pose": [1, 2, NaN]}',
        ):
            with self.subTest(text):
                assert_input_error(self, lambda text=text: read_order(text), "is no order")
        alone = Desk(navigator, [])
        self.assertIn("refused", alone.do(read_order('{"do": "crate", "place": [1, 2]}')))

    def test_settings_turned_while_it_drives_are_those_that_it_drives_by(self):
        link, navigator = loop()
        navigator.tune(changed_settings(Settings(), {"following.cruise_speed": 0.25}))
        fastest = 0.0
        while not navigator.over and link.t < 60.0:
            readings = link.exchange(navigator.command)
            navigator.step(readings.t, readings.scans["front"], readings.odometry, readings.people)
            fastest = max(fastest, navigator.command.speed)
        self.assertEqual(str(navigator.state), "finished")
        self.assertTrue(0.15 < fastest < 0.26)


class WhoMayLook(unittest.TestCase):
    def test_other_pages_and_hosts_are_refused_and_a_token_is_asked_for_elsewhere(self):
        def answer(live, path, **headers):
            where = urlsplit(live.url)
            connection = http.client.HTTPConnection("127.0.0.1", where.port)
            connection.request("GET", path, headers=headers)
            response = connection.getresponse()
            response.read()
            connection.close()
            return response

        _, navigator = loop()
        talk = {
            "Connection": "Upgrade",
            "Upgrade": "websocket",
            "Sec-WebSocket-Version": "13",
            "Sec-WebSocket-Key": "x",
        }
        with Live(navigator) as live:
            own = live.url.rstrip("/")
            self.assertTrue(own.startswith("http://127.0.0.1:"))
            page = answer(live, "/")
            self.assertEqual(page.status, 200)
            self.assertIn("default-src 'none'", page.headers["Content-Security-Policy"])
            self.assertEqual(answer(live, "/", Host="elsewhere.example").status, 403)
            self.assertEqual(answer(live, "/talk", Origin=own, **talk).status, 101)
            for origin in ({}, {"Origin": "http://elsewhere.example"}, {"Origin": "null"}):
                self.assertEqual(answer(live, "/talk", **origin, **talk).status, 403, origin)
            self.assertEqual(answer(live, "/etc/passwd").status, 404)
            port = urlsplit(live.url).port
            assert_input_error(self, lambda: Live(navigator, port=port), "address", str(port))
        with Live(navigator, address="0.0.0.0") as live:
            path = "/?" + urlsplit(live.url).query
            self.assertEqual([answer(live, each).status for each in (path, "/", "/?token=x")], [200, 403, 403])


class InABrowser(unittest.TestCase):
    def test_a_goal_is_pointed_at_and_the_robot_arrives_by_word_and_by_keys(self):
        with driven(4.0) as (live, link), opened(live.url) as browser:
            from selenium.webdriver import ActionChains

            find, do = browser.find_element, browser.execute_script
            wait_for(lambda: "reached" in find("id", "events").text)
            # Pressed and dragged on the map, towards where it is to look; what lies where is told under the pointer.
            do("document.getElementById('whole').click()")
            find("css selector", "#tools input[value=go]").click()
            canvas, hand = find("css selector", "#views canvas"), ActionChains(browser)

            def place_under(x, y):
                hand.move_to_element_with_offset(canvas, x, y).perform()
                return np.array(re.search(r"(-?[\d.]+), (-?[\d.]+)", find("id", "card").text).groups(), float)

            middle = place_under(0, 0)
            x, y = np.rint(([36.9, 23.0] - middle) / (place_under(100, 100) - middle) * 100).astype(int).tolist()
            wanted = np.array([*place_under(x, y), np.pi / 2.0])
            hand.click_and_hold().move_by_offset(0, -60).release().perform()
            wait_for(lambda: find("id", "events").text.count("reached") == 2)
            self.assertLess(np.abs(link.pose - wanted).max(), 0.12)
            find("css selector", "#tools input[value=go]").click()
            find("id", "pose").send_keys("36.9, 21.5, -90")
            find("id", "apply").send_keys(" ")
            wait_for(lambda: find("id", "events").text.count("reached") == 3)
            self.assertLess(np.hypot(*(link.pose[:2] - [36.9, 21.5])), 0.1)
            find("css selector", "#tools input[value=crate]").click()
            find("id", "pose").clear()
            find("id", "pose").send_keys("34.0, 18.5, 0")
            find("id", "apply").click()
            wait_for(lambda: "a crate at" in find("id", "events").text)
            # By the keyboard, for as long as the key is held.
            find("id", "keys").click()
            stood = link.pose.copy()
            hold = "document.dispatchEvent(new KeyboardEvent('key' + arguments[0], {key: 's', bubbles: true}))"
            do(hold, "down")
            wait_for(lambda: np.hypot(*(link.pose - stood)[:2]) > 0.2)
            do(hold, "up")
            # By a gamepad, for as long as its stick is pushed: this one is made up, as browsers let a page do.
            stood = link.pose.copy()
            do("navigator.getGamepads = () => [{axes: [0, -0.8]}]")
            wait_for(lambda: np.hypot(*(link.pose - stood)[:2]) > 0.2)
            do("navigator.getGamepads = () => []")
            find("id", "key").send_keys("cost.comfort")
            find("id", "value").send_keys("1")
            find("id", "turn").click()
            wait_for(lambda: "perhaps `costs.comfort`" in find("id", "events").text)
            browser.set_window_size(390, 844)
            self.assertLessEqual(do("return document.documentElement.scrollWidth"), do("return innerWidth"))

    def test_a_run_is_recorded_by_hand_and_the_map_grows(self):
        link = SimulatedLink(site(), robot(), seed=1)
        with LiveRecording(link) as recording, opened(recording.url) as browser:
            thread = threading.Thread(target=record_live, args=(recording,), kwargs={"pace": 3.0})
            thread.start()
            find, do = browser.find_element, browser.execute_script
            wait_for(lambda: "standing" in find("id", "finding").text)
            first = np.sum(recording.mapper.snapshot().free)
            hold = "document.dispatchEvent(new KeyboardEvent('key' + arguments[0], {key: arguments[1], bubbles: true}))"
            # Held down for good, the key drives up to what stands there, and no nearer.
            do(hold, "down", "w")
            wait_for(lambda: link.pose[0] > 36.5 and "brakes before" in find("id", "now").text)
            do(hold, "up", "w")
            ahead = link.pose[0]
            do(hold, "down", "s")
            wait_for(lambda: link.pose[0] < ahead - 0.4)
            do(hold, "up", "s")
            do(hold, "down", "a")
            start = link.pose[2]
            wait_for(lambda: abs(link.pose[2] - start) > 0.5)
            do(hold, "up", "a")
            self.assertFalse(find("id", "tools").is_displayed())
            find("id", "end").click()
            thread.join()
        self.assertEqual(link.contacts, 0)
        self.assertGreater(np.sum(recording.mapper.snapshot().free), first)
        self.assertLess(np.hypot(*(recording.pose - link.pose)[:2]), 0.05)

    def test_a_connection_that_is_lost_comes_back(self):
        browser = browser_or_skip()
        try:
            with socket.socket() as free:
                free.bind(("127.0.0.1", 0))
                port = free.getsockname()[1]
            state = "return document.body.dataset.talks"
            with driven(1.0, port=port) as (live, _):
                browser.get(live.url)
                wait_for(lambda: browser.execute_script(state) == "yes")
            wait_for(lambda: browser.execute_script(state) == "no")
            self.assertIn("No word", browser.find_element("id", "finding").text)
            with driven(1.0, port=port):
                wait_for(lambda: browser.execute_script(state) == "yes")
                wait_for(lambda: "driving" in browser.find_element("id", "finding").text)
        finally:
            browser.quit()


class OnTheCommandLine(unittest.TestCase):
    def test_it_drives_says_where_to_look_and_keeps_the_record(self):
        folder = new_folder()
        write_map(short_mapping().grid, folder / "map.png")
        given = (demo_file("site.toml"), "--robot", demo_file("robot.toml"), "--map", folder / "map.png")
        status, printed, error = run(
            "live", *given, "--to", "36.9,22,-90", "--seconds", 2, "-o", folder / "drive", "--json"
        )
        self.assertEqual(status, 0, error)
        self.assertIn("http://127.0.0.1:", error)
        self.assertAlmostEqual(json.loads(printed)["quality"]["driven_s"], 2.0, delta=0.2)
        self.assertTrue((folder / "drive" / "moments.parquet").is_file())
        self.assertGreater(len(read_run(folder / "drive").scans.t), 10)
        recording = (*given[:3], "--record", folder / "run")
        status, printed, error = run("live", *recording, "--seconds", 2, "--json")
        self.assertEqual(status, 0, error)
        self.assertGreater(len(read_run(folder / "run").scans.t), 10)
        for words in (given[:3], (*given, "--record", folder / "other")):
            status, _, error = run("live", *words)
            self.assertEqual((status, error.count("\n")), (2, 1))
            self.assertIn("--record", error)


if __name__ == "__main__":
    unittest.main()
