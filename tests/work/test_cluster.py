"""Recipes get values and never the store: the graph of a job runs on a cluster of another library alike."""

import tempfile
import time
import unittest
from pathlib import Path

from tests.support import comb, portal, stl
from upright_heron.core.keys import Keys
from upright_heron.core.maker import Bound, Maker, bound
from upright_heron.core.supports.demand.patches import Style
from upright_heron.sheet.changes import AddItems, MakeSupports
from upright_heron.store.codec import decode, encode
from upright_heron.store.store import Store
from upright_heron.work.bind import keys_of, plate_keys
from upright_heron.work.intake import new_sheet, take_in
from upright_heron.work.scheduler import Scheduler
from upright_heron.work.sources import load_from

WANTED = ("brief", "checks", "listed", "figures")


class Handed:
    """A memory of no more than what was handed over, as bytes."""

    def __init__(self, values):
        self.values = values

    def get(self, key):
        data = self.values.get(key)
        return None if data is None else decode(data)

    def put(self, key, value):
        self.values[key] = encode(value)


def one_result(name, given, sources, needed):
    """Make one result on a worker of the cluster, of what it needs: bytes in, bytes out, no store."""
    keys = Keys(given)
    memory = Handed(dict(needed))
    made = []
    maker = Maker(
        lambda source, digest: decode(sources[source.name, digest]),
        memory,
        made=lambda *one: made.append(one),
    )
    maker.make(keys, name)
    # Everything below was handed over, so that nothing is made twice.
    assert [key for _, key in made] == [keys[name]], made
    return memory.values[keys[name]]


class ClusterTest(unittest.TestCase):
    def test_keys_and_values_are_those_of_the_process_pool(self):
        from distributed import Client, LocalCluster

        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        store = Store(Path(folder.name) / "heron.sqlite3")
        self.addCleanup(store.close)
        parts = [take_in(stl(body), f"{k}.stl", store) for k, body in enumerate((comb(), portal()))]
        sheet = MakeSupports(style=Style.TREE).made(new_sheet(parts[0], "Two parts"), "1")
        sheet = AddItems(parts=(parts[1],)).made(sheet, "")
        asked = [(keys_of(item), name) for item in sheet.each for name in WANTED]
        asked.append((plate_keys(sheet), "package"))
        plan = {key: (keys, one) for k, name in asked for key, keys, one in k.plan(name)}
        self.assertGreater(len(plan), 20)

        with (
            LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster,
            Client(cluster) as client,
        ):
            found = self.on_cluster(client, plan, store)
        self.assertFalse(store.has_results(list(plan)), "the cluster wrote to the store")

        work = Scheduler(store, 1)
        self.addCleanup(work.close)
        work.want("page", asked)
        until = time.monotonic() + 120
        while (standing := work.standing("page")) is not None:
            self.assertEqual(standing.state, "running")
            self.assertLess(time.monotonic(), until)
            time.sleep(0.02)
        for key, (_, one) in plan.items():
            with self.subTest(one.name):
                self.assertEqual(encode(store.result(key)), found[key])

    def on_cluster(self, client, plan, store):
        load, futures = load_from(store), {}
        for key, (keys, one) in plan.items():
            given = bound(keys.binding, [one.name])
            # A binding of plain values has the keys of the sheet.
            self.assertEqual(Keys(given)[one.name], key)
            needed = {below: futures[below] for below, _, _ in keys.plan(one.name) if below != key}
            futures[key] = client.submit(
                one_result, one.name, given, sources_of(given, load), needed, key=f"{one.name}-{key}"
            )
        return dict(zip(futures, client.gather(list(futures.values())), strict=True))


def sources_of(given: Bound, load):
    """Values of the sources of a binding and of its items, as bytes."""
    from upright_heron.core.graph import Source

    found = {}
    for name, ref in given.refs.items():
        found[name, ref.digest] = encode(load(Source(name, object), ref.digest))
    for item in given.items:
        found.update(sources_of(item, load))
    return found
