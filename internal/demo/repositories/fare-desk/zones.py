"""How many zones lie between two quays."""
ZONES = {"Lyngholmen": 1, "Indre Skjer": 2, "Ytre Skjer": 4}

for a in ZONES:
    for b in ZONES:
        if a < b:
            print(f"{a} to {b}: {abs(ZONES[a] - ZONES[b])} zones")
