import unittest

from merrow.berths import Berth, first_free

READINGS = [(0, 100), (60, 300), (120, 320), (180, 90)]


class BerthsTest(unittest.TestCase):
    def setUp(self):
        self.north = Berth("north", 80, 150)
        self.south = Berth("south", 120, 200)

    def test_a_long_ship_does_not_fit(self):
        self.assertFalse(self.north.takes({"length": 81, "draught": 300}))
        self.assertTrue(self.north.takes({"length": 80, "draught": 300}))

    def test_a_berth_adds_its_depth(self):
        ship = {"length": 60, "draught": 400}
        self.assertEqual(self.north.arrivals(ship, READINGS), [(60, 120)])

    def test_the_first_free_berth_is_taken(self):
        ship = {"length": 70, "draught": 300}
        self.assertEqual(first_free([self.north, self.south], ship, set()), "north")
        self.assertEqual(first_free([self.north, self.south], ship, {"north"}), "south")
        self.assertIsNone(first_free([self.north], ship, {"north"}))

    def test_a_ship_may_come_in_at_night(self):
        readings = [(1200, 100), (1320, 260), (1439, 300)]
        ship = {"length": 60, "draught": 400}
        self.assertEqual(self.north.arrivals(ship, readings), [(1320, 1439)])
