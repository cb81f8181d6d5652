"""Files of any tuning, opened with the formats' reference libraries: OpenEXR 3.5, Pillow 13, tifffile. Run with the program, a scene
and an environment; turns a third of the knobs at random, the same each time."""

import json
import math
import random
import subprocess
import sys

import numpy as np
import OpenEXR
import tifffile
from PIL import Image

program, scene, environment = sys.argv[1:]
dice = random.Random(5)


def run(*line):
    done = subprocess.run([program, *line], capture_output=True, text=True)
    assert done.returncode == 0, (line, done.stderr)
    return done.stdout


def value(knob):
    kind = knob["kind"]
    if kind["type"] == "switch":
        return dice.random() < 0.5
    if kind["type"] == "choice":
        return dice.choice([n for n in kind["names"] if n != "table"])
    least, most = kind["least"], kind["most"]
    # The ends more often than chance would have them.
    at = dice.choice([0, 1, dice.random(), dice.random()])
    wide = most - least
    v = least + (math.expm1(at * math.log1p(wide)) if knob["scale"] == "logarithmic" else at * wide)
    return round(v) if kind["type"] == "whole" else min(max(v, least), most)


knobs = json.loads(run("knobs", "--json"))
for turn in range(30):
    tuning = {k["id"]: value(k) for k in knobs if k["id"] != "view.table" and dice.random() < 0.35}
    # What would only take long.
    tuning |= {f"split.{part}": dice.randint(1, 2) for part in ("direct", "diffuse", "reflection", "transmission")}
    tuning |= {"sampling.least": 2, "sampling.most": dice.randint(2, 8), "sampling.effort": 1}
    w, h = dice.randint(1, 48), dice.randint(1, 32)
    tuning |= {"frame.width": w, "frame.height": h}
    with open("any.json", "w") as file:
        json.dump(tuning, file)
    x, y = dice.randint(0, w - 1), dice.randint(0, h - 1)
    region = (x, y, dice.randint(1, w - x), dice.randint(1, h - y))
    line = ["--tuning", "any.json", "--region", ",".join(map(str, region)), "--environment", environment]
    run("render", scene, *line, "--out", "any.exr", "--out", "any.png", "--out", "any.tif", "--report", "any.report.json")
    size = (region[3], region[2])
    for name, channel in OpenEXR.File("any.exr", separate_channels=True).channels().items():
        pixels = channel.pixels
        assert pixels.shape[:2] == size, (tuning, name, pixels.shape)
        # An id is a float of any bits but those of what is no number.
        assert np.isfinite(pixels.astype(np.float64)).all(), (tuning, name)
    with Image.open("any.png") as png:
        png.load()
        assert png.size == size[::-1], (tuning, png.size)
    assert tifffile.imread("any.tif").shape[:2] == size, tuning
    with open("any.report.json") as file:
        json.load(file)
