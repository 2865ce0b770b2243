import unittest

from ledger import Ledger


class Mooring(unittest.TestCase):
    def setUp(self):
        self.ledger = Ledger(["north", "south", "west"])

    def test_all_are_free_at_first(self):
        self.assertEqual(self.ledger.free(), ["north", "south", "west"])

    def test_a_ship_takes_a_berth(self):
        self.ledger.moor("Dunlin", "south")
        self.assertEqual(self.ledger.where("Dunlin"), "south")
        self.assertEqual(self.ledger.free(), ["north", "west"])

    def test_a_taken_berth_is_refused(self):
        self.ledger.moor("Dunlin", "south")
        with self.assertRaises(ValueError):
            self.ledger.moor("Alca", "south")
        self.assertIsNone(self.ledger.where("Alca"))

    def test_a_ship_has_one_berth(self):
        self.ledger.moor("Dunlin", "south")
        with self.assertRaises(ValueError):
            self.ledger.moor("Dunlin", "north")

    def test_an_unknown_berth_is_refused(self):
        with self.assertRaises(ValueError):
            self.ledger.moor("Dunlin", "east")


class Leaving(unittest.TestCase):
    def test_the_berth_is_free_again_in_its_place(self):
        ledger = Ledger(["north", "south", "west"])
        ledger.moor("Dunlin", "north")
        self.assertEqual(ledger.leave("Dunlin"), "north")
        self.assertEqual(ledger.free(), ["north", "south", "west"])

    def test_who_is_not_there_cannot_leave(self):
        with self.assertRaises(KeyError):
            Ledger(["north"]).leave("Dunlin")

    def test_the_list_given_is_not_changed(self):
        names = ["north", "south"]
        ledger = Ledger(names)
        ledger.moor("Dunlin", "north")
        ledger.free().clear()
        self.assertEqual(names, ["north", "south"])
        self.assertEqual(ledger.free(), ["south"])
