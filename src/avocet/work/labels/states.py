"""How far the labelling of a picture is, and what counts as labelled."""

from avocet.store.tables import PictureState

LABELLED = (PictureState.DONE, PictureState.EMPTY)
"""What a person has finished with: only that is counted, frozen, exported and learnt from."""

BEGUN = (PictureState.IN_PROGRESS, *LABELLED)
"""What somebody has worked on: nobody writes over it unasked."""


def fitting_state(state: PictureState, has_boxes: bool) -> PictureState:
    """The state nearest to the wanted one that a picture with boxes, or without any, can have."""
    if has_boxes:
        return state if state == PictureState.DONE else PictureState.IN_PROGRESS
    if state in LABELLED:
        return PictureState.EMPTY
    return PictureState.UNLABELLED
