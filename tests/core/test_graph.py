"""The graph: keys name every input, values are made once, what is absent stays absent."""

import unittest
from dataclasses import dataclass
from enum import Enum

from hypothesis import given
from hypothesis import strategies as st

from upright_heron.core.graph import (
    GRAPH,
    Graph,
    Keep,
    Maybe,
    Recipe,
    Ref,
    Source,
    choice,
    digest_of,
    maybe,
    recipe,
)
from upright_heron.core.keys import Keys
from upright_heron.core.maker import Bound, Maker, Recent, bound


@dataclass(frozen=True)
class Width:
    mm: float


@dataclass(frozen=True)
class Colour:
    name: str


class Mood(Enum):
    CALM = "calm"


WOOD = Source("wood", str)


def workshop(version=1):
    """A small graph: a board is sawn from wood, a lid is painted where a colour is asked for."""
    graph = Graph()
    made = []

    @recipe("board", version=version, needs=(WOOD,), reads=Width, graph=graph)
    def board(wood, width):
        made.append("board")
        return f"{wood} {width.mm:g}"

    @recipe("tool", version=1, needs=(board,), keep=Keep.PASSING, graph=graph)
    def tool(plank):
        made.append("tool")
        return None

    @recipe("lid", version=1, needs=(board, maybe(tool)), reads=Colour, graph=graph)
    def lid(plank, saw, colour, progress, early):
        made.append("lid")
        progress("Painting", 1, 2)
        early(f"{plank} primed")
        return f"{plank} {colour.name}"

    either = choice("top", lid, board, graph=graph)

    @recipe("box", version=1, needs=(either,), reads=maybe(Colour), keep=Keep.LIGHT, graph=graph)
    def box(top, colour):
        made.append("box")
        return (top, colour)

    @recipe("shelf", version=1, each=(either, maybe(lid)), graph=graph)
    def shelf(tops, lids):
        made.append("shelf")
        return tops, lids

    return graph, made


def settings(width=3.0, colour=None, wood="oak"):
    values = {Width: Width(width)} | ({Colour: Colour(colour)} if colour else {})
    return Bound(values, {"wood": Ref(wood, wood)})


def maker(graph, stored=None, **more):
    return Maker(lambda source, digest: digest, stored or Recent(100), graph=graph, **more)


class KeysTest(unittest.TestCase):
    def test_a_key_follows_everything_below_and_nothing_else(self):
        graph, _ = workshop()
        first = Keys(settings(colour="red"), graph)
        for other, changed in (
            (settings(4.0, "red"), {"board", "tool", "lid", "top", "box"}),
            (settings(3.0, "red", "ash"), {"board", "tool", "lid", "top", "box"}),
            (settings(3.0, "blue"), {"lid", "top", "box"}),
            (settings(3.0, "red"), set()),
        ):
            found = Keys(other, graph)
            self.assertEqual({n for n in graph if n != "shelf" and first[n] != found[n]}, changed)
        raised = Keys(settings(colour="red"), workshop(version=2)[0])
        self.assertEqual({n for n in graph if n != "shelf" and first[n] == raised[n]}, set())

    def test_what_is_not_asked_for_is_absent_and_a_choice_takes_what_is_there(self):
        graph, _ = workshop()
        plain, painted = Keys(settings(), graph), Keys(settings(colour="red"), graph)
        self.assertNotIn("lid", plain)
        self.assertEqual((plain["top"], painted["top"]), (plain["board"], painted["lid"]))
        self.assertIn("box", plain)
        self.assertNotIn("board", Keys(Bound({Width: Width(1)}), graph))
        with self.assertRaises(KeyError):
            plain["lid"]

    def test_items_count_in_their_order_and_number(self):
        graph, _ = workshop()
        one, two = settings(1.0), settings(2.0)

        def shelf(*items):
            return Keys(Bound(items=items), graph)["shelf"]

        self.assertEqual(len({shelf(), shelf(one), shelf(one, two), shelf(two, one), shelf(one, one)}), 5)
        self.assertEqual(shelf(one, two), shelf(settings(1.0), settings(2.0)))

    @given(st.floats(allow_nan=False, allow_infinity=False), st.text(max_size=5))
    def test_digests_tell_values_apart_and_not_how_they_were_written(self, number, text):
        self.assertEqual(digest_of((number, text)), digest_of([number, text]))
        self.assertNotEqual(digest_of((text, number)), digest_of((number, text)))
        self.assertEqual(digest_of({1, 2}), digest_of(frozenset((2, 1))))

    def test_digests_of_all_kinds(self):
        # Equal values have equal digests, whichever came first: 1, 1.0 and True are one.
        for same in ((1, 1.0, True), (0.0, -0.0), (Width(2), Width(2.0))):
            self.assertEqual(len({digest_of((v,)) for v in same}), 1, same)
        apart = (
            None,
            "",
            "None",
            0,
            (),
            ((),),
            {},
            Width(1),
            Colour("1"),
            Mood.CALM.name,
            {"a": 1},
            {"a": 2},
        )
        self.assertEqual(len({digest_of((v,)) for v in apart}), len(apart))
        self.assertEqual(digest_of(Mood.CALM), digest_of("calm"))
        with self.assertRaises(TypeError):
            digest_of(object())

    def test_a_recipe_says_what_it_takes(self):
        graph, _ = workshop()
        with self.assertRaises(ValueError):
            recipe("odd", version=1, reads=Width, graph=graph)(lambda: 1)
        with self.assertRaises(ValueError):
            recipe("board", version=1, graph=graph)(lambda: 1)
        with graph.lent():
            recipe("lent", version=1, graph=graph)(lambda: 1)
            self.assertIn("lent", graph)
        self.assertNotIn("lent", graph)
        self.assertEqual([one.name for one in graph.below(["box"])], ["board", "tool", "lid", "box"])


class MakerTest(unittest.TestCase):
    def test_each_is_made_once_and_remembered_where_it_is_to_be(self):
        graph, made = workshop()
        stored, told = Recent(100), []
        keys = Keys(settings(colour="red"), graph)
        first = maker(graph, stored, early=lambda key, value: told.append((key, value)))
        self.assertEqual(first.make(keys, "box"), ("oak 3 red", Colour("red")))
        self.assertEqual(made, ["board", "tool", "lid", "box"])
        self.assertEqual(told, [(keys.early("lid"), "oak 3 primed")])
        # Another process finds what is stored, and makes the light one again.
        self.assertEqual(maker(graph, stored).make(keys, "box"), ("oak 3 red", Colour("red")))
        self.assertEqual(made, ["board", "tool", "lid", "box", "box"])
        self.assertIsNone(stored.get(keys["tool"]))

    def test_a_passing_value_of_none_is_made_once(self):
        graph, made = workshop()
        one, keys = maker(graph), Keys(settings(colour="red"), graph)
        for _ in range(2):
            self.assertIsNone(one.make(keys, "tool"))
        self.assertEqual(made.count("tool"), 1)

    def test_nothing_to_remember_is_an_error(self):
        graph, _ = workshop()
        recipe("void", version=1, graph=graph)(lambda: None)
        with self.assertRaises(TypeError):
            maker(graph).make(Keys(settings(), graph), "void")

    def test_plain_values_are_all_that_is_needed_elsewhere(self):
        graph, _ = workshop()
        items = (settings(1.0), settings(2.0, "red"))
        whole = Bound(items=items)
        sent = bound(whole, ["shelf"], graph)
        keys = Keys(sent, graph)
        self.assertEqual(keys["shelf"], Keys(whole, graph)["shelf"])
        self.assertEqual(maker(graph).make(keys, "shelf"), (("oak 1", "oak 2 red"), (None, "oak 2 red")))
        # Only what was declared goes along.
        self.assertEqual(bound(items[1], ["board"], graph).values, {Width: Width(2.0)})
        self.assertEqual([k for k, _, _ in keys.plan("shelf")][-1], keys["shelf"])
        self.assertEqual(len(keys.plan("shelf")), 4)

    def test_the_last_few_are_at_hand(self):
        recent = Recent(2)
        for name in "abac":
            recent.put(name, name)
        self.assertEqual([recent.get(name) for name in "abc"], ["a", None, "c"])


class RecipesTest(unittest.TestCase):
    """The recipes of the application."""

    def test_every_recipe_says_what_it_makes_and_is_documented(self):
        for name in GRAPH:
            node = GRAPH[name]
            if isinstance(node, Recipe):
                with self.subTest(name):
                    self.assertTrue(node.function.__doc__)
                    self.assertIsNot(node.makes, None)
                    # Whoever waits for it is told what is being done.
                    self.assertTrue(node.stage or node.keep is not Keep.STORED or name in QUICK)

    def test_needs_are_made_before_what_needs_them(self):
        order = [one.name for one in GRAPH.below(list(GRAPH))]
        for one in GRAPH.below(list(GRAPH)):
            for need in (*one.needs, *one.each):
                node = need.node if isinstance(need, Maybe) else need
                if isinstance(node, Recipe):
                    self.assertLess(order.index(node.name), order.index(one.name))


# Remembered only because they are looked at; they take no time.
QUICK = {"past", "marked"}


if __name__ == "__main__":
    unittest.main()
