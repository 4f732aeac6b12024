"""What a worker put down goes with it, or with the next one."""

import subprocess
import sys
import tempfile

from avocet.work.cluster.places import worker_place
from avocet.work.cluster.shipping import Unpacked


def test_the_next_worker_tidies_up_after_one_that_was_killed(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    code = "from avocet.work.cluster.places import worker_place; (worker_place() / 'picture').touch(); import os; os._exit(9)"
    subprocess.run([sys.executable, "-c", code], env={"TMPDIR": str(tmp_path)}, check=False)
    (left,) = tmp_path.iterdir()
    assert [each.name for each in left.iterdir()] == ["picture"]
    (tmp_path / "somebody else's").touch()
    mine, another = worker_place(), worker_place()
    assert {path.name for path in tmp_path.iterdir()} == {mine.name, another.name, "somebody else's"}


def test_nothing_is_put_down_where_nothing_was_sent(tmp_path, monkeypatch):
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    Unpacked().close()
    assert not list(tmp_path.iterdir())
