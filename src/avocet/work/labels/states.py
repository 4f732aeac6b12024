"""How far the labelling of a picture is, and what counts as labelled."""

from avocet.store.tables import (
    PictureState,
)

LABELLED = (PictureState.IN_PROGRESS, PictureState.DONE, PictureState.EMPTY)


def fitting_state(state: PictureState, has_boxes: bool) -> PictureState:
    if has_boxes:
        return state if state == PictureState.DONE else PictureState.IN_PROGRESS
    if state in (PictureState.DONE, PictureState.EMPTY):
        return PictureState.EMPTY
    return PictureState.UNLABELLED
