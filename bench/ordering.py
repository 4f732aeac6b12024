"""Labelling the picture next that a model is least sure of, against any picture: precision for as many labelled ones."""

import tempfile
from pathlib import Path

import numpy as np
from sqlalchemy import select

from avocet.core.labels.orientation import lie_in_every_direction
from avocet.demo.belt import render_still
from avocet.demo.goods import NAMES
from avocet.detector.model.predictor import Predictor
from avocet.detector.model.shipped import shipped_weights
from avocet.detector.pictures.augmentation import Augmentation
from avocet.detector.pictures.labelled import LabelledPicture
from avocet.detector.training.settings import Settings
from avocet.detector.training.trainer import Training
from avocet.media.pictures import encode_jpeg
from avocet.store.database import open_database
from avocet.store.folder import DataFolder
from avocet.store.tables import Picture, PictureState
from avocet.work.judge.report import find_candidates, measure
from avocet.work.labels.boxes import save_labels
from avocet.work.pictures.adding import add_picture
from avocet.work.progress import Silent
from avocet.work.project.projects import create_project
from avocet.work.use.proposals import keep_proposals, least_sure
from bench.learning import labelled, truths_in

SEEDS = (0, 1, 2)
POOL, TWINS, HELD, UNSEEN = 48, 16, 12, 24
"""Pictures to choose from; so many of them are photographed once more, as near-equal frames are."""

ROUNDS, EACH = 3, 4
STEPS, BATCH, EPOCHS = 60, 8, 5
MINIMUM_SCORE, OVERLAP_LIMIT = 0.3, 0.5
POOL_SEED, HELD_SEED, UNSEEN_SEED = 61_000, 62_000, 63_000


def pool() -> list[LabelledPicture]:
    """What can be labelled: stills, some of them twice."""
    found = [labelled(POOL_SEED + number) for number in range(POOL)]
    for number in range(TWINS):
        frame = render_still(POOL_SEED + number, again=True)
        first = found[number]
        found.append(
            LabelledPicture(
                f"{first.name} again", first.width, first.height, lambda f=frame: f.pixels, first.truth
            )
        )  # type: ignore[misc]
    return found


def trained(chosen: list[LabelledPicture], held: list[LabelledPicture], seed: int) -> Predictor:
    """A model from the shipped weights, after so many steps on the chosen pictures."""
    sizes = np.concatenate([each.boxes[:, 2:] - each.boxes[:, :2] for each in chosen])
    classes = np.concatenate([each.classes for each in chosen])
    flips = "all" if lie_in_every_direction(sizes, classes) else "sideways"
    with tempfile.TemporaryDirectory() as name:
        settings = Settings(
            epochs=EPOCHS, passes=max(1, STEPS * BATCH // len(chosen) // EPOCHS), batch=BATCH, seed=seed,
            augmentation=Augmentation(flips=flips),  # type: ignore[arg-type]
        )  # fmt: skip
        run = Training(settings, NAMES, chosen, held, Path(name))
        run.start_from(shipped_weights("stint"))
        run.run(lambda _: None)
        run.close()
        return Predictor.from_bundle(Path(name) / "best.zip")


class Choosing:
    """The pool as a project, so that the next picture is chosen as the page chooses it."""

    def __init__(self, place: Path, pictures: list[LabelledPicture]) -> None:
        folder = DataFolder(place)
        self._sessions = open_database(folder.database)
        self._numbers = []
        with self._sessions.begin() as session:
            project = create_project(session, "Belt")
            for number, each in enumerate(pictures):
                path = place / f"{number}.jpg"
                path.write_bytes(encode_jpeg(each.read()))
                self._numbers.append(add_picture(session, folder, project.id, path, path.name).picture.id)

    def label(self, places: list[int]) -> None:
        """These are labelled now; with what is of no matter to the order."""
        with self._sessions.begin() as session:
            for place in places:
                picture = session.get_one(Picture, self._numbers[place])
                save_labels(session, picture, picture.revision, [], PictureState.DONE)

    def next_ones(self, predictor: Predictor, pictures: list[LabelledPicture], last: int) -> list[int]:
        """The least sure ones, one after the other."""
        with self._sessions.begin() as session:
            open_ones = session.scalars(
                select(Picture.id).where(Picture.state == PictureState.UNLABELLED)
            ).all()
            for number in open_ones:
                each = pictures[self._numbers.index(number)]
                found = predictor.candidates([each.read()], MINIMUM_SCORE)[0].after_suppression(
                    MINIMUM_SCORE, OVERLAP_LIMIT
                )
                rows = [
                    {"class": NAMES[kind], "score": float(score), "box": box}
                    for kind, score, box in zip(
                        found.classes, found.scores, found.boxes.tolist(), strict=True
                    )
                ]
                keep_proposals(session, number, rows, "run 1")
        chosen: list[int] = []
        for _ in range(EACH):
            with self._sessions() as session:
                number = least_sure(session, session.get_one(Picture, self._numbers[last]))
            if number is None:
                break
            last = self._numbers.index(number)
            chosen.append(last)
            self.label([last])
        return chosen


def main() -> None:
    """Print precision by number of labelled pictures, for both orders."""
    pictures = pool()
    held = [labelled(HELD_SEED + number) for number in range(HELD)]
    unseen = [labelled(UNSEEN_SEED + number) for number in range(UNSEEN)]
    print(
        f"Stint, {STEPS} steps from the shipped weights; {len(pictures)} pictures to choose from, {UNSEEN} unseen"
    )
    for seed in SEEDS:
        start = np.random.default_rng(seed).permutation(len(pictures)).tolist()
        first = trained([pictures[place] for place in start[:EACH]], held, seed)
        for order in ("least sure", "random"):
            with tempfile.TemporaryDirectory() as name:
                choosing = Choosing(Path(name), pictures)
                chosen = start[:EACH]
                choosing.label(chosen)
                told = []
                for turn in range(ROUNDS):
                    predictor = trained([pictures[place] for place in chosen], held, seed) if turn else first
                    figures = measure(NAMES, truths_in(unseen), find_candidates(predictor, unseen, Silent()))
                    told.append(f"{len(chosen)}: {figures['map50']:.3f} {figures['map']:.3f}")
                    if turn == ROUNDS - 1:
                        break
                    if order == "random":
                        chosen = start[: len(chosen) + EACH]
                    else:
                        chosen = [*chosen, *choosing.next_ones(predictor, pictures, chosen[-1])]
                twins = len({place - POOL for place in chosen if place >= POOL} & set(chosen))
                print(f"  seed {seed}, {order}: " + "; ".join(told) + f"; {twins} labelled twice", flush=True)


if __name__ == "__main__":
    main()
