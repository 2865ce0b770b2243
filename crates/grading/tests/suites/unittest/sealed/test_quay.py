import asyncio
import contextlib
import io
import logging
import os
import tempfile
import threading
import unittest
import warnings
from unittest import mock
from unittest.mock import patch

import quay
import tide
from quay import Color, Item, Vec
from tide import HarbourError, Interval, Mod, Tree, Version


def setUpModule():
    global SHARED
    SHARED = Tree().insert(4).insert(2)


class Base(unittest.TestCase):
    maxDiff = None

    def check(self, tree, values):
        self.assertEqual(list(tree), values)
        self.assertEqual(len(tree), len(values))


class Trees(Base):
    @classmethod
    def setUpClass(cls):
        cls.log = []

    def setUp(self):
        self.tree = Tree()
        self.addCleanup(self.log.append, "cleaned")

    def tearDown(self):
        self.log.append("down")

    def test_a_insert(self):
        self.tree.insert(5).insert(1)
        self.check(self.tree, [1, 5])
        self.assertIn(5, self.tree)
        self.assertNotIn(7, self.tree)
        self.assertEqual(self.tree, [1, 5])
        self.assertNotEqual(self.tree, [1, 6])

    def test_b_cleaned(self):
        self.assertEqual(self.log, ["down", "cleaned"])

    def test_shared(self):
        self.check(SHARED, [2, 4])
        self.assertIsInstance(SHARED, Tree)

    def test_sub_tests(self):
        for n, height in [(0, 0), (1, 1), (3, 3)]:
            with self.subTest(n=n):
                tree = Tree()
                for v in range(n):
                    tree.insert(v)
                self.assertEqual(tree.height, height)


class Values(unittest.TestCase):
    def test_many(self):
        self.assertEqual(Vec(1, 2) + Vec(1, 1), Vec(2, 3))
        self.assertTrue(Interval(1, 3) == Interval(1, 3))
        self.assertLess(Version("1.2"), Version("1.10"))
        self.assertGreater(Version("2"), Version("1.10"))
        self.assertLessEqual(Version("2"), Version("2.0"))
        self.assertEqual(Mod(9, 7), 2)
        self.assertCountEqual([Vec(1, 2), Vec(3, 4)], [Vec(3, 4), Vec(1, 2)])
        self.assertListEqual(tide.flatten([1, [2]]), [1, 2])
        self.assertDictEqual(tide.group_by("aab", str), {"a": ["a", "a"], "b": ["b"]})
        self.assertTupleEqual(quay.Point(1, 2), (1, 2))
        self.assertSetEqual({1, 2}, set(tide.Sorted([2, 1])))
        self.assertAlmostEqual(tide.Celsius(36.6).fahrenheit, 97.88, places=2)
        self.assertAlmostEqual(tide.Celsius(36.6).fahrenheit, 97.9, delta=0.1)
        self.assertIsNone(Interval(1, 2) & Interval(5, 6))
        self.assertIs(Color(1), Color.RED)
        self.assertRegex(repr(Interval(1, 2)), r"\[1, 2\]")
        self.assertEqual(str(quay.Temp(3)), "3C")
        self.assertMultiLineEqual("a\n", "a\n")

    def test_errors(self):
        with self.assertRaises(ValueError):
            Color(99)
        with self.assertRaisesRegex(ValueError, "positive"):
            tide.Crate(-1)
        with self.assertRaises(quay.E1) as caught:
            quay.boom()
        self.assertEqual(caught.exception.code, 7)
        self.assertRaises(ZeroDivisionError, tide.compose(lambda x: 1 / x), 0)
        self.assertRaises(HarbourError, self.fail_with, tide.FullError("x"))

    def fail_with(self, error):
        raise error

    def test_logs_and_warnings(self):
        with self.assertLogs("tide", level="INFO") as logs:
            tide.notify()
        self.assertEqual(logs.output, ["INFO:tide:tide in", "ERROR:tide:late"])
        with self.assertWarns(DeprecationWarning):
            quay.warnme()
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            with self.assertRaises(DeprecationWarning):
                quay.warnme()

    def test_output(self):
        out = io.StringIO()
        with contextlib.redirect_stdout(out), self.assertRaises(SystemExit):
            quay.main()
        self.assertIn("hello\n", out.getvalue())

    @unittest.expectedFailure
    def test_known_to_fail(self):
        self.assertEqual(Mod(3, 7), 4)

    @unittest.skipUnless(
        os.name == "posix",
        "of this kind of machine",
    )
    def test_decorated(self):
        self.assertEqual(tide.show(3), "int 3")


class Mocks(unittest.TestCase):
    @patch("quay.time.time", return_value=12)
    def test_time(self, clock):
        self.assertEqual(quay.now(), 12)
        clock.assert_called_once_with()

    @mock.patch.dict(os.environ, {"TIDE": "high"})
    def test_environment(self):
        self.assertEqual(quay.env("TIDE"), "high")

    @mock.patch.object(Tree, "height", new_callable=mock.PropertyMock, return_value=42)
    def test_property(self, height):
        self.assertEqual(Tree().height, 42)

    @mock.patch.object(Vec, "zero", return_value="mocked")
    def test_method(self, zero):
        self.assertEqual(Vec.zero(), "mocked")
        zero.assert_called_once()

    @mock.patch("builtins.input", side_effect=["ann", "bo"])
    def test_input(self, _):
        self.assertEqual((quay.ask(), quay.ask()), ("ann", "bo"))

    @mock.patch("quay.random.randint", side_effect=[3, 4])
    def test_random(self, _):
        self.assertEqual([quay.roll(), quay.roll()], [3, 4])

    def test_files(self):
        with tempfile.TemporaryDirectory() as folder:
            path = os.path.join(folder, "x.json")
            quay.save(path, {"a": 1})
            self.assertTrue(os.path.exists(path))
            self.assertEqual(quay.load(path), {"a": 1})
        self.assertFalse(os.path.exists(folder))
        with self.assertRaises(FileNotFoundError):
            quay.load(path)

    def test_open(self):
        with mock.patch("builtins.open", mock.mock_open(read_data='{"b": 2}')) as opened:
            self.assertEqual(quay.load("nowhere"), {"b": 2})
        opened.assert_called_once_with("nowhere")

    def test_callbacks(self):
        bus, heard = quay.Bus(), mock.Mock(side_effect=lambda x: x * 2)
        bus.on("a", heard)
        bus.on("a", self.hear)
        self.assertEqual(bus.emit("a", 4), [8, "heard 4"])

    def hear(self, x):
        return f"heard {x}"


class Later(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self):
        self.conn = tide.Conn()

    async def test_fetch(self):
        self.assertEqual(await tide.fetch(3), 6)
        self.assertEqual(await asyncio.gather(tide.fetch(1), tide.fetch(2)), [2, 4])
        async with self.conn as it:
            self.assertTrue(it.open)
        self.assertFalse(self.conn.open)
        self.assertEqual([x async for x in tide.ticks(2)], [0, 1])


class Threads(unittest.TestCase):
    def test_counter(self):
        counter = quay.Counter()
        threads = [threading.Thread(target=lambda: [counter.inc() for _ in range(20)]) for _ in range(3)]
        for it in threads:
            it.start()
        for it in threads:
            it.join()
        self.assertEqual(counter.n, 60)


if __name__ == "__main__":
    unittest.main()
