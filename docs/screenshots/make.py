"""Draws the screenshots again: pictures by Joinery itself, terminal views in a terminal window on a virtual screen.

Needs Xvfb, xterm and ImageMagick's import for the terminal views.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import joinery as jn

sys.path.append(str(Path(__file__).parents[2]))
from tests.engines import headless_browser

HERE = Path(__file__).parent
COMMAND = Path(sys.executable).with_name("joinery")
FIRST = "honey_kg given forage_km2, altitude_m, feed_kg, rain_days, hive_type"
BENT = f"{FIRST}, feed_kg * rain_days, altitude_m^2"
VIEWS = {
    "help": "joinery --help | head -46",
    "look": "joinery look sample:yields --id hive",
    "fit": f"joinery fit sample:yields '{BENT}' --id hive",
    "stepwise": "joinery stepwise sample:queens 'eggs_a_day given all but queen, outcome' --criterion bic",
    "explain": f"joinery explain sample:yields '{BENT}' --id hive --leave-out H058",
    "rows": f"joinery rows sample:yields '{BENT}' --id hive | head -42",
    "workings": "joinery workings sample:jars 'jars_sold given hours_open' --at 5 | head -46",
}


def terminal_view(name: str, command: str, display: str) -> None:
    """One command in a terminal window, as a PNG of about 1280 × 800."""
    shown = command.replace("'", "'\\''")
    script = f"PATH={COMMAND.parent}:$PATH; printf '$ %s\\n' '{shown}'; {command}; sleep 30"
    environment = os.environ | {"DISPLAY": display, "COLORTERM": "truecolor"}
    window = subprocess.Popen(
        ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "141x47+0+0", "-bg", "white", "-fg", "#22313a", "-e",
         "bash", "-c", script], env=environment,
    )  # fmt: skip
    time.sleep(9)
    subprocess.run(
        ["import", "-window", "root", "-crop", "1280x800+0+0", str(HERE / f"{name}.png")],
        env=environment,
        check=True,
    )
    window.terminate()
    window.wait()


def page_view(fit: jn.Fit) -> None:
    """The page to send, in a browser, two rows marked."""
    with tempfile.TemporaryDirectory() as folder, headless_browser() as browser:
        browser.get(fit.report(Path(folder) / "page.html").as_uri() + "#rows=H031,H089")
        browser.execute_script("document.getElementById('try').scrollIntoView()")
        time.sleep(0.5)
        browser.save_screenshot(str(HERE / "page.png"))


def main() -> None:
    """Draws everything."""
    jn.fit("sample:jars", "jars_sold given hours_open").draw("line", path=HERE / "line.png")
    seen = jn.look("sample:yields", FIRST, id="hive")
    seen.draw("response", path=HERE / "response.png")
    each = jn.fit_each("sample:yields", "honey_kg given forage_km2", by="apiary")
    each.draw("lines", path=HERE / "each.png")
    bent = jn.fit("sample:yields", BENT, id="hive")
    bent.draw("residuals", path=HERE / "residuals.png")
    study = jn.rehearse("y given x, z", {"intercept": 100, "x": 1, "z": 0.3}, [20, 50], seed=1)
    study.draw("estimates", path=HERE / "rehearsal.png")
    mended = bent.revise(leave_out="H058")
    mended.draw("simple_slopes", of="feed_kg", across="rain_days", path=HERE / "slopes.png")
    jars = jn.fit("sample:jars", "jars_sold given hours_open")
    jars.draw("inverse", of="hours_open", at=30, path=HERE / "inverse.png")
    winter = jn.fit(
        "sample:winter",
        "survived of colonies given altitude_m, log(forage_km2), stores_kg",
        id="apiary",
    )
    winter.draw("line", against="stores_kg", path=HERE / "survival.png")
    winter.draw("forecast", new="sample:winter_outcome", path=HERE / "forecasts.png")
    bent.draw("checks", path=HERE / "checks.png")
    bent.draw("leverage", path=HERE / "leverage.png")
    page_view(mended)
    screen = subprocess.Popen(["Xvfb", ":97", "-screen", "0", "1280x800x24", "-noreset"])
    time.sleep(1)
    try:
        for name, command in VIEWS.items():
            terminal_view(name, command, ":97")
    finally:
        screen.terminate()


if __name__ == "__main__":
    main()
