import unittest

import tides


class Tides(unittest.TestCase):
    def test_two_tides_a_day(self):
        heights = [cm for _, cm in tides.table("Ytre Skjer")]
        highs = [h for h in range(1, 23) if heights[h - 1] < heights[h] >= heights[h + 1]]
        self.assertEqual(len(highs), 2)

    def test_stations_differ(self):
        self.assertNotEqual(tides.table("Lyngholmen"), tides.table("Indre Skjer"))


if __name__ == "__main__":
    unittest.main()
