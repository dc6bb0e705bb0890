"""Puts ferries into berths so that no two lie in one at a time."""
import sys

CALLS = [("Lomvi", 6, 8), ("Teist", 7, 9), ("Alke", 8, 10), ("Lunde", 9, 12), ("Krykkje", 11, 13)]


def plan(calls):
    free_at, out = [], []
    for ferry, arrives, leaves in sorted(calls, key=lambda c: c[1]):
        for berth, until in enumerate(free_at):
            if until <= arrives:
                break
        else:
            berth = len(free_at)
            free_at.append(0)
        free_at[berth] = leaves
        out.append((berth + 1, ferry, arrives, leaves))
    return out


if __name__ == "__main__":
    for berth, ferry, arrives, leaves in plan(CALLS):
        print(f"berth {berth}  {ferry:<8} {arrives:02d}:00 to {leaves:02d}:00")
    sys.exit(0 if max(b for b, *_ in plan(CALLS)) <= 3 else 1)
