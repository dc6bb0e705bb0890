"""Prints charts of the tides, as many as it can in the time it is given."""
import argparse
import math
import pathlib
import time

parser = argparse.ArgumentParser()
parser.add_argument("--seconds", type=float, required=True)
parser.add_argument("folder", type=pathlib.Path)
args = parser.parse_args()
args.folder.mkdir(exist_ok=True)
end, year = time.monotonic() + args.seconds, 2026
while time.monotonic() < end:
    heights = [62 * (math.cos(h / 1.977) + 0.3 * math.cos(h / 1.91)) for h in range(24 * 366)]
    (args.folder / f"{year}.txt").write_text("\n".join(f"{h:+.1f}" for h in heights))
    year += 1
print(f"{year - 2026} charts are printed")
