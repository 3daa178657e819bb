"""--watch: the command runs again as editors save the file, and says what changed."""

from __future__ import annotations

import os
import queue
import signal
import subprocess
import sys
import threading

import pytest

BASE = "x,y\n1,2\n2,3\n3,5\n4,4\n5,7\n6,8\n"


class Watcher:
    """The command under way: what it says on standard error, line by line."""

    def __init__(self, *arguments, cwd):
        self.running = subprocess.Popen(
            [sys.executable, "-m", "joinery", *arguments, "--watch"],
            cwd=cwd, text=True, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )  # fmt: skip
        self.lines = queue.Queue()
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self):
        for line in self.running.stderr:
            self.lines.put(line.rstrip("\n"))

    def until(self, words):
        seen = []
        while True:
            seen.append(self.lines.get(timeout=60))
            if words in seen[-1]:
                return "\n".join(seen)

    def end(self):
        self.running.send_signal(signal.SIGINT)
        out, _ = self.running.communicate(timeout=60)
        assert self.running.returncode == 130
        return out


def replaced(path, text):
    beside = path.with_suffix(".new")
    beside.write_text(text)
    os.replace(beside, path)


def test_each_way_of_saving_is_seen(tmp_path):
    data = tmp_path / "d.csv"
    data.write_text(BASE)
    command = Watcher("coefficients", "d.csv", "y given x", "--as", "csv", cwd=tmp_path)
    command.until("watching d.csv")
    data.write_text(BASE + "7,30\n")  # truncated and written again
    assert "rows: 6 before, 7 now" in command.until("new serious: row 6 decides the answer")
    with data.open("w") as half:  # half a file, then the rest of it
        half.write("x,y\n1,")
        half.flush()
        command.until("joinery: ")
        half.write(BASE[6:])
    said = command.until("no longer: row 6 decides the answer")
    assert "x: 3.429 before, 1.171 now" in said
    replaced(data, BASE + "7,9\n")  # written beside and renamed
    command.until("rows: 6 before, 7 now")
    data.unlink()
    data.write_text(BASE.replace("8\n", "9\n"))  # taken away and put back
    command.until("rows: 7 before, 6 now")
    os.utime(data)
    command.until("nothing in the fit changed")
    assert command.end().count("term,estimate") == 6


def test_a_page_is_written_again_in_place(tmp_path):
    data, page = tmp_path / "d.csv", tmp_path / "page.html"
    data.write_text(BASE)
    command = Watcher("report", "d.csv", "y given x", "--output", "page.html", cwd=tmp_path)
    command.until("watching")
    before = page.read_text("utf-8")
    replaced(data, BASE + "7,30\n")
    command.until("rows: 6 before, 7 now")
    assert page.read_text("utf-8") != before
    command.end()


@pytest.mark.parametrize("data", ["-", "sample:jars", "nowhere.csv"])
def test_what_cannot_be_watched_is_said(joinery, data):
    status, _, said = joinery("fit", data, "y given x", "--watch")
    assert status == 2
    assert "--watch follows a file" in said
