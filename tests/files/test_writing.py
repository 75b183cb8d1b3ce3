"""The user's files: what is written never takes the place of anything else, whole in every order of dying."""

import json
import os
import shlex
import signal
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import vinecompass
from tests.support import assert_input_error, demo, new_folder, run, short_mapping, short_run
from vinecompass import write_map, write_run
from vinecompass.cli import cli
from vinecompass.cli.compile import JOB
from vinecompass.files import atomic_folder, atomic_write, replacing_anything
from vinecompass.files.exchanging import exchange
from vinecompass.files.replacing import kind_of

TEXTS = {
    "robot.toml": 'format = "vinecompass robot"\n',
    "wheels.csv": "t,left,right\n0,0,0\n",
    "diary.csv": "dear diary\n",
    "notes.png": b"\x89PNG\r\n\x1a\n a photograph",
    "some.gif": b"GIF89a a holiday",
}


def folder_of_the_users():
    """A folder with files of many kinds."""
    folder = new_folder()
    for name, content in TEXTS.items():
        (folder / name).write_bytes(content if isinstance(content, bytes) else content.encode())
    return folder


class WrittenOver(unittest.TestCase):
    def test_only_by_its_own_kind_unless_it_is_forced(self):
        folder = folder_of_the_users()
        for name, content in TEXTS.items():
            for other, text in TEXTS.items():
                if kind_of(content if isinstance(content, bytes) else content.encode()) != kind_of(
                    text if isinstance(text, bytes) else text.encode()
                ):
                    with self.subTest(over=name, by=other):
                        assert_input_error(self, lambda: atomic_write(folder / name, text), name, "--force")  # noqa: B023
        atomic_write(folder / "wheels.csv", "t,left,right\n1,1,1\n")
        self.assertIn("1,1,1", (folder / "wheels.csv").read_text())
        with replacing_anything():
            atomic_write(folder / "diary.csv", "t,x\n0,0\n")
        self.assertIn("t,x", (folder / "diary.csv").read_text())

    def test_a_link_stays_one_and_a_map_takes_no_name_from_what_lies_beside_it(self):
        folder = folder_of_the_users()
        (folder / "link.csv").symlink_to(folder / "target.csv")
        atomic_write(folder / "link.csv", "t,x\n0,0\n")
        self.assertTrue((folder / "link.csv").is_symlink())
        self.assertIn("t,x", (folder / "target.csv").read_text())
        grid = short_mapping().grid
        for name, told in (("robot.png", "vinecompass robot"), ("notes.png", "no map")):
            assert_input_error(self, lambda: write_map(grid, folder / name), told)  # noqa: B023
        write_map(grid, folder / "map.png")
        write_map(grid, folder / "map.png")
        for name, content in TEXTS.items():
            self.assertEqual((folder / name).read_bytes(), content if isinstance(content, bytes) else content.encode())

    def test_a_run_is_replaced_only_where_nothing_else_would_be_lost(self):
        folder = new_folder()
        write_run(short_run(), folder / "run")
        write_run(short_run(), folder / "run")
        (folder / "run" / "notes.txt").write_text("mine")
        assert_input_error(self, lambda: write_run(short_run(), folder / "run"), "notes.txt", "--force")
        for name in ("../outside.jsonl", "scans.parquet"):
            assert_input_error(self, lambda: write_run(short_run(), folder / "new", records={name: b""}), "records")  # noqa: B023
        self.assertEqual(sorted(path.name for path in folder.iterdir()), ["run"])


class Dying(unittest.TestCase):
    def test_a_writer_killed_at_any_moment_leaves_a_whole_run_and_the_next_clears_what_is_left(self):
        folder = new_folder()
        write_run(short_run(), folder / "run")
        script = (
            "import sys; from vinecompass.files import atomic_folder\n"
            "while True:\n"
            f"    with atomic_folder({str(folder / 'run')!r}, marker='run.toml', ours=['run.toml', 'x']) as new:\n"
            "        (new / 'run.toml').write_text('a'); (new / 'x').write_text('b'); print('.', flush=True)\n"
        )
        with replacing_anything():
            atomic_write(folder / "run" / "run.toml", "a")
        for name in os.listdir(folder / "run"):
            if name != "run.toml":
                (folder / "run" / name).unlink()
        for number in range(6):
            writer = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE)
            for _ in range(3 + 5 * number):
                writer.stdout.read(1)
            writer.send_signal(signal.SIGKILL)
            writer.wait()
            writer.stdout.close()
            self.assertTrue((folder / "run" / "run.toml").is_file())
        with atomic_folder(folder / "run", marker="run.toml", ours=["run.toml", "x"]) as new:
            (new / "run.toml").write_text("c")
        self.assertEqual(os.listdir(folder), ["run"])

    def test_where_two_names_cannot_be_exchanged_the_new_one_is_put_in_place_all_the_same(self):
        folder = new_folder()
        for name in ("new", "old"):
            (folder / name).mkdir()
            (folder / name / "what").write_text(name)
        with mock.patch("ctypes.CDLL", side_effect=OSError):
            exchange(folder / "new", folder / "old")
        self.assertEqual([(folder / name / "what").read_text() for name in ("new", "old")], ["old", "new"])
        self.assertEqual(sorted(os.listdir(folder)), ["new", "old"])


class CompiledCode(unittest.TestCase):
    def test_it_is_kept_where_it_is_told_or_not_at_all_where_nothing_can_be_written(self):
        told = "import vinecompass, os; print(os.environ.get('NUMBA_CACHE_DIR', 'as usual'))"
        nowhere = f"import os; os.access = lambda *_: False; {told}"
        (full := new_folder() / "full").mkdir()
        (full / "a.nbi").write_bytes(b"")
        for code, place, wanted, lines in (
            (told, {}, "as usual", 0),
            (told, {"VINECOMPASS_CACHE": "/tmp/somewhere"}, "/tmp/somewhere", 0),
            (nowhere, {"VINECOMPASS_CACHE": "/tmp/somewhere"}, "vinecompass-", 1),
            (nowhere, {}, "vinecompass-", 1),
            (
                f"{nowhere}; print(os.listdir(os.environ['NUMBA_CACHE_DIR']))",
                {"VINECOMPASS_CACHE": str(full)},
                "a.nbi",
                0,
            ),
        ):
            with self.subTest(wanted):
                clean = {key: value for key, value in os.environ.items() if key != "NUMBA_CACHE_DIR"}
                ended = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, env=clean | place)
                self.assertIn(wanted, ended.stdout)
                self.assertEqual(ended.stderr.count("\n"), lines)
                self.assertFalse(lines and Path(ended.stdout.split()[0]).exists())

    def test_everything_is_compiled_by_doing_the_job_once_or_not_where_it_would_not_be_kept(self):
        package = Path(vinecompass.__file__).parent
        with mock.patch("vinecompass.cli.compile.JOB", JOB[:1]):
            status, out, error = run("compile", "--json")
            told = json.loads(out)
            self.assertEqual((status, told["files"], error), (0, {"folder": str(package)}, ""))
            self.assertEqual(told["quality"]["kernels"], sum(1 for _ in package.rglob("*.nbi")))
        with mock.patch.dict(os.environ, NUMBA_CACHE_DIR="/tmp/vinecompass-gone"):
            self.assertEqual(run("compile")[0], 1)
        for _, line in JOB:
            name, *words = shlex.split(line)
            cli.commands[name].make_context(name, words)


class OnTheCommandLine(unittest.TestCase):
    def test_outputs_that_are_read_or_are_something_else_are_refused_before_any_work(self):
        data = demo()[0]
        robot = ("--robot", data / "robot.toml")
        before = {path: path.read_bytes() for path in data.glob("*.*")}
        for words, told in (
            (("map", data / "recording", "-o", data / "robot.png"), "vinecompass robot"),
            (("price", data / "cellar.png", *robot, "--picture", data / "cellar.png"), "figure"),
            (("locate", data / "cellar.png", data / "second-run", "-o", data / "second-run" / "o.csv"), "lies in"),
            (
                ("import", "run", *robot, "--scans", data / "recording/scans.parquet", "-o", data / "recording"),
                "is read",
            ),
            (("edit", data / "cellar.png", "--specks", 0.1, "-o", data / "cellar.png"), "also read"),
            (("edit", data / "cellar.png", "--merge", data / "b.png", "-o", data / "b.png"), "also read"),
            (("fuse", data / "recording", "-o", data / "recording"), "also read"),
            (("fuse", data / "recording", "-o", ""), "empty"),
            (("map", data / "recording", "-o", "m" * 300 + ".png"), "name too long"),
            (("map", data / "recording", "-o", data / "robot.toml" / "m.png"), "cannot be written"),
        ):
            with self.subTest(words[0], told=told):
                status, _, error = run(*words)
                self.assertEqual((status, error.count("\n")), (2, 1), error)
                self.assertIn(told, error.replace("File", "").lower() if "long" in told else error)
        self.assertEqual({path: path.read_bytes() for path in data.glob("*.*")}, before)

    def test_a_full_device_a_reader_who_leaves_and_a_file_that_may_not_grow_end_in_one_line(self):
        data, out = demo()[0], new_folder()
        command = f"{sys.executable} -m vinecompass"
        for line, status in (
            (f"{command} tune --list > /dev/full", 2),
            (f"exec 3> >(:); wait $!; {command} tune --list >&3", 1),
            (f"ulimit -f 1; {command} edit {data}/cellar.png --specks 0.1 -o {out}/m.png", 2),
        ):
            with self.subTest(line):
                ended = subprocess.run(["bash", "-c", line], capture_output=True, text=True, cwd=Path.cwd())
                self.assertEqual(ended.returncode, status, ended.stderr)
                self.assertLessEqual(ended.stderr.count("\n"), 1, ended.stderr)
        self.assertEqual(list(out.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
