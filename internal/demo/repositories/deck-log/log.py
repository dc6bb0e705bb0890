"""Sorts a ferry's log by the time of each entry."""
import sys

for line in sorted(open(sys.argv[1], encoding="utf-8")):
    print(line, end="")
