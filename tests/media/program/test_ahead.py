import threading
import unittest

from kettle_core.errors import TakeError
from kettle_media.program.ahead import ahead


class Ahead(unittest.TestCase):
    def test_all_items_come_in_order(self):
        with ahead(iter(range(500)), 3, "count") as items:
            self.assertEqual(list(items), list(range(500)))

    def test_it_is_never_further_ahead_than_it_may_be(self):
        made, taken, most = [], 0, 0

        def counted():
            for number in range(200):
                made.append(number)
                yield number

        with ahead(counted(), 4, "bounded") as items:
            for _ in items:
                taken += 1
                most = max(most, len(made) - taken)
        # Four wait, one is being handed over.
        self.assertLessEqual(most, 5)
        self.assertEqual(taken, 200)

    def test_what_goes_wrong_is_raised_where_the_items_are_taken(self):
        def failing():
            yield 1
            raise TakeError("The track is gone.")

        with (
            self.assertRaisesRegex(TakeError, "is gone"),
            ahead(failing(), 2, "failing") as items,
        ):
            self.assertEqual(list(items), [1])

    def test_leaving_early_ends_the_thread_and_closes_what_it_ran(self):
        closed = threading.Event()

        def endless():
            try:
                while True:
                    yield 0
            finally:
                closed.set()

        before = threading.active_count()
        with self.assertRaises(KeyError), ahead(endless(), 2, "endless") as items:
            next(items)
            raise KeyError
        self.assertTrue(closed.is_set())
        self.assertEqual(threading.active_count(), before)
