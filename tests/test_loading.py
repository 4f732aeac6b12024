"""Imports are quick, and nothing is left changed by them."""

import gc
import subprocess
import sys
import threading

import pytest

from avocet.loading import SELDOM, USUAL, loading

MEASURED = """
import gc, sys
searches = [0]
gc.callbacks.append(lambda phase, info: searches.__setitem__(0, searches[0] + (phase == "stop")))
from avocet.loading import loading
if sys.argv[1] == "loading":
    with loading():
        import avocet.web.app
else:
    import avocet.web.app
print(searches[0], gc.get_freeze_count(), gc.get_threshold()[0])
"""


@pytest.fixture(autouse=True)
def thawed():
    yield
    gc.unfreeze()


@pytest.mark.long
@pytest.mark.slow
def test_rubbish_is_hardly_looked_for_while_a_server_is_imported():
    said = {}
    for way in ("loading", "plainly"):
        run = subprocess.run(
            [sys.executable, "-c", MEASURED, way], capture_output=True, text=True, check=True
        )
        said[way] = [int(word) for word in run.stdout.split()]
    searches, frozen, threshold = said["loading"]
    assert 10 * searches < said["plainly"][0], "the number of searches tells, whatever else the machine does"
    assert frozen > 50_000 and said["plainly"][1] == 0
    assert threshold == said["plainly"][2]


def test_all_is_as_before_also_where_an_import_fails():
    with pytest.raises(ModuleNotFoundError), loading():
        assert gc.get_threshold()[0] == SELDOM
        import avocet.no_such_room  # noqa: F401
    assert gc.get_threshold() == USUAL


def test_what_is_imported_already_freezes_nothing():
    before = gc.get_freeze_count()
    with loading():
        import avocet.loading  # noqa: F401
    assert gc.get_freeze_count() == before


def test_several_at_once_leave_the_usual_behind():
    begun, ended = threading.Barrier(2), threading.Barrier(2)

    def load(waits):
        with loading():
            begun.wait(10)
            if waits:
                ended.wait(10)
        if not waits:
            ended.wait(10)

    threads = [threading.Thread(target=load, args=(waits,)) for waits in (True, False)]
    for each in threads:
        each.start()
    for each in threads:
        each.join(20)
    assert gc.get_threshold() == USUAL
