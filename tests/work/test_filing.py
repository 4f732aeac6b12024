"""Part, bin and tags set by the many: what is changed, what is said, and the way back."""

import pytest

from avocet.core.errors import InputError
from avocet.store.tables import Change, ChangedPicture, Part, Picture
from avocet.work.labels.undo import undo_change
from avocet.work.pictures import filing
from avocet.work.pictures.filing import set_binned, set_part, set_parts, set_tag
from avocet.work.problems import NotFound
from avocet.work.progress import Stopped
from avocet.work.project.projects import create_project


@pytest.fixture
def sessions(data, labelled):
    return data[1]


def filed(sessions):
    """Part, place in the bin and tags of all pictures."""
    with sessions() as session:
        return {
            each.id: (each.part, each.binned_at, sorted(tag.tag for tag in each.tags))
            for each in session.query(Picture).order_by(Picture.id)
        }


def make(sessions, project, what, ids):
    if what == "part":
        return set_part(sessions, project, ids, Part.TEST)
    if what == "unassigned":
        return set_part(sessions, project, ids, None)
    if what in ("bin", "restore"):
        return set_binned(sessions, project, ids, what == "bin")
    return set_tag(sessions, project, ids, "glare", what == "tag")


@pytest.mark.parametrize(
    ("what", "title"),
    [
        ("part", "3 pictures moved to test"),
        ("unassigned", "3 pictures moved to unassigned"),
        ("bin", "3 pictures moved to the bin"),
        ("tag", "3 pictures tagged glare"),
    ],
)
def test_a_change_says_what_it_did_and_goes_back(sessions, labelled, what, title):
    before = filed(sessions)
    ids = list(before)[:3]
    made = make(sessions, labelled, what, [*ids, 999])
    assert (made.title, made.changed) == (title, 3)
    after = filed(sessions)
    assert {each for each in before if after[each] != before[each]} == set(ids)
    again = make(sessions, labelled, what, ids)
    assert again.changed == 0 and again.change_id is None and filed(sessions) == after
    undone = undo_change(sessions, labelled, made.change_id)
    assert (undone.pictures, undone.kept) == (3, 0) and filed(sessions) == before


@pytest.mark.parametrize(
    ("there", "back"), [("bin", "restore"), ("tag", "take the tag off"), ("part", "unassigned")]
)
def test_what_was_filed_again_since_stays(sessions, labelled, there, back):
    ids = list(filed(sessions))
    first = make(sessions, labelled, there, ids[:4])
    second = make(sessions, labelled, back, ids[2:4])
    kept = filed(sessions)
    undone = undo_change(sessions, labelled, first.change_id)
    assert (undone.pictures, undone.kept) == (2, 2)
    assert all(filed(sessions)[each] == kept[each] for each in ids[2:])
    with pytest.raises(InputError, match="is undone already"):
        undo_change(sessions, labelled, first.change_id)
    # What is left of the first cannot be undone any more, the second still can: it says what it met.
    assert undo_change(sessions, labelled, second.change_id).pictures == 2


def test_restoring_goes_back_into_the_bin_at_the_same_time(sessions, labelled):
    ids = list(filed(sessions))[:2]
    set_binned(sessions, labelled, ids, True)
    binned = filed(sessions)
    restored = set_binned(sessions, labelled, ids, False)
    assert restored.title == "2 pictures restored"
    undo_change(sessions, labelled, restored.change_id)
    assert filed(sessions) == binned


def test_several_parts_are_one_change(sessions, labelled):
    before = filed(sessions)
    first, second, third, *_ = before
    parts = {Part.TEST: [first], Part.VALIDATION: [second, third]}
    made = set_parts(sessions, labelled, parts, "moved by a split")
    now = filed(sessions)
    assert made.title == "3 pictures moved by a split"
    assert [now[each][0] for each in (first, second, third)] == [Part.TEST, Part.VALIDATION, Part.VALIDATION]
    undo_change(sessions, labelled, made.change_id)
    assert filed(sessions) == before


def test_pictures_of_another_project_are_not_touched(sessions, labelled):
    before = filed(sessions)
    with sessions.begin() as session:
        other = create_project(session, "Other").id
    assert set_part(sessions, other, list(before), Part.TEST).changed == 0
    assert filed(sessions) == before
    made = set_part(sessions, labelled, list(before), Part.TEST)
    with pytest.raises(NotFound, match="no change"):
        undo_change(sessions, other, made.change_id)


class StopAfter:
    """Asks to stop once so many portions were reported."""

    def __init__(self, portions):
        self.left = portions

    def progress(self, done, total, message=""):
        self.left -= 1

    def should_stop(self):
        return self.left <= 0


def test_a_change_and_its_undoing_can_be_stopped_and_gone_on_with(sessions, labelled, monkeypatch):
    monkeypatch.setattr(filing, "AT_ONCE", 1)
    monkeypatch.setattr("avocet.work.labels.undo.FILED_AT_ONCE", 1)
    before = filed(sessions)
    with pytest.raises(Stopped):
        set_part(sessions, labelled, list(before), None, StopAfter(3))
    assert sum(part is None for part, _, _ in filed(sessions).values()) == 3
    with sessions() as session:
        change_id = session.query(Change).one().id
    with pytest.raises(Stopped):
        undo_change(sessions, labelled, change_id, StopAfter(2))
    assert sum(part is None for part, _, _ in filed(sessions).values()) == 1
    undone = undo_change(sessions, labelled, change_id)
    assert (undone.pictures, undone.kept) == (1, 0) and filed(sessions) == before
    with sessions() as session:
        assert session.query(ChangedPicture).count() == 0
