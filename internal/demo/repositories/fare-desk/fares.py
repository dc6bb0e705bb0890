"""Fares of Skerry Line, read from the table in the image."""
import sys

fares = dict(line.split() for line in open("/opt/fares/fares", encoding="utf-8"))
if "--check" in sys.argv:
    assert int(fares["child"]) * 2 == int(fares["adult"]), "a child pays half"
for kind, kroner in sorted(fares.items()):
    print(f"{kind:<8} {kroner:>4}")
