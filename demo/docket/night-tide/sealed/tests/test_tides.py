import unittest

from merrow.tides import extremes, ranges, windows


class TidesTest(unittest.TestCase):
    def test_ranges_are_differences(self):
        self.assertEqual(ranges([120, 480, 90]), [360, 390])

    def test_extremes_of_a_day(self):
        self.assertEqual(extremes([120, 480, 90]), (90, 480))

    def test_a_day_without_heights_is_an_error(self):
        with self.assertRaises(ValueError):
            extremes([])

    def test_one_window_in_the_middle(self):
        readings = [(0, 100), (60, 300), (120, 320), (180, 90)]
        self.assertEqual(windows(readings, 250), [(60, 120)])

    def test_no_window_when_the_water_stays_low(self):
        self.assertEqual(windows([(0, 100), (60, 120)], 250), [])

    def test_a_window_may_last_until_the_end(self):
        readings = [(0, 100), (60, 300), (120, 320)]
        self.assertEqual(windows(readings, 250), [(60, 120)])

    def test_a_window_may_be_the_whole_day(self):
        self.assertEqual(windows([(0, 400), (720, 390), (1439, 410)], 250), [(0, 1439)])

    def test_a_single_last_reading_is_a_window(self):
        self.assertEqual(windows([(0, 100), (1439, 260)], 250), [(1439, 1439)])

    def test_nothing_is_added_after_a_window_that_ended(self):
        readings = [(0, 300), (60, 90), (120, 80)]
        self.assertEqual(windows(readings, 250), [(0, 0)])
