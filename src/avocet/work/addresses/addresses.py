"""Addresses: made, answered with a model or an earlier one, their keys, and what the server needs of a call."""

import datetime as dt
import hashlib
import json
import re
import secrets
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from avocet.core.errors import InputError
from avocet.store.address_tables import Address, AddressKey, AddressModel
from avocet.store.folder import DataFolder
from avocet.store.tables import now
from avocet.work.models.bundles import bundles_of
from avocet.work.models.chosen import chosen_model
from avocet.work.problems import NotFound, by_number
from avocet.work.project.projects import get_project
from avocet.work.use.running.order import DetectionOrder

NAME = re.compile(r"[a-z0-9]([a-z0-9-]{0,58}[a-z0-9])?")
KEY_START = 8
"""Letters of a key by which a person tells it from others."""

PER_MINUTE = 600
MOST_KEPT = 500
"""Pictures of an address that are kept for labelling."""


def create_address(
    session: Session,
    folder: DataFolder,
    project_id: int,
    name: str,
    run_id: int | None,
    ensemble_id: int | None,
) -> Address:
    """Make an address that a model answers.

    Raises
    ------
    InputError
        If the name is taken or not of lower-case letters, digits and hyphens.
    NotFound
        If the project, the run or its model is not there.
    """
    get_project(session, project_id)
    if not NAME.fullmatch(name):
        raise InputError(
            f"{name!r} is no name for an address: lower-case letters, digits and hyphens, at most 60"
        )
    if session.scalar(select(Address.id).where(Address.name == name)) is not None:
        raise InputError(f"there is an address {name!r} already, perhaps in the bin or in another project")
    address = Address(project_id=project_id, name=name, order={"overlap_limit": 0.5})
    session.add(address)
    session.flush()
    answer_with(session, folder, address.id, run_id, ensemble_id)
    return address


def get_address(session: Session, address_id: int) -> Address:
    """The address, or `NotFound`."""
    return by_number(session, Address, address_id, "address")


def any_address(session: Session) -> bool:
    """Whether anything is answered at all."""
    return session.scalar(select(Address.id).where(Address.binned_at.is_(None)).limit(1)) is not None


def list_addresses(session: Session, project_id: int, binned: bool = False) -> list[Address]:
    """The project's addresses, oldest first."""
    wanted = Address.binned_at.is_not(None) if binned else Address.binned_at.is_(None)
    query = select(Address).where(Address.project_id == project_id, wanted).order_by(Address.id)
    return list(session.scalars(query.options(selectinload(Address.models), selectinload(Address.keys))))


def answer_with(
    session: Session, folder: DataFolder, address_id: int, run_id: int | None, ensemble_id: int | None
) -> AddressModel:
    """Let another model answer from now on; the one before stays in the history."""
    address = get_address(session, address_id)
    model = chosen_model(session, folder, run_id, ensemble_id)
    if model.project_id != address.project_id:
        raise NotFound(f"the project of {address.name} has no such model")
    answering = AddressModel(run=model.run, ensemble=model.ensemble, name=model.name)
    address.models.append(answering)
    session.flush()
    return answering


def back_to(session: Session, folder: DataFolder, address_id: int, model_id: int) -> AddressModel:
    """Let a model answer again that did so before."""
    address = get_address(session, address_id)
    before = next((each for each in address.models if each.id == model_id), None)
    if before is None:
        raise NotFound(f"{address.name} has no entry {model_id} in its history")
    if before.run_id is None and before.ensemble_id is None:
        raise NotFound(f"the model {before.name} is not there any more")
    return answer_with(session, folder, address_id, before.run_id, before.ensemble_id)


def change_address(session: Session, address_id: int, order: dict[str, Any], keep_share: float) -> Address:
    """What counts, and which share of the pictures is kept. Raises `InputError` for what cannot be."""
    address = get_address(session, address_id)
    wished = {name: value for name, value in order.items() if value is not None}
    DetectionOrder.checked(wished)
    if not 0 <= keep_share <= 1:
        raise InputError(f"the share that is kept must lie between 0 and 1, not {keep_share}")
    address.order, address.keep_share = wished, keep_share
    return address


def bin_address(session: Session, address_id: int, binned: bool) -> Address:
    """Move an address to the bin, where it answers nobody, or restore it."""
    address = get_address(session, address_id)
    address.binned_at = now() if binned else None
    return address


def digest_of(key: str) -> str:
    """What is kept of a key. Keys are random and long: a plain hash gives nothing away."""
    return hashlib.sha256(key.encode("utf-8", "surrogatepass")).hexdigest()


def make_key(
    session: Session, address_id: int, name: str, per_minute: int = PER_MINUTE
) -> tuple[AddressKey, str]:
    """A new key, which is told this once.

    Returns
    -------
    record : AddressKey
    key : str
    """
    address = get_address(session, address_id)
    if not name.strip():
        raise InputError("name the key after the program that will use it")
    if not 1 <= per_minute <= 1_000_000:
        raise InputError(f"a key allows from 1 to 1,000,000 calls a minute, not {per_minute}")
    key = secrets.token_urlsafe(32)
    made = AddressKey(name=name.strip(), start=key[:KEY_START], digest=digest_of(key), per_minute=per_minute)
    address.keys.append(made)
    session.flush()
    return made, key


def revoke_key(session: Session, address_id: int, key_id: int, revoked: bool = True) -> AddressKey:
    """Let a key not be good any more, or let it be good again."""
    address = get_address(session, address_id)
    found = next((each for each in address.keys if each.id == key_id), None)
    if found is None:
        raise NotFound(f"{address.name} has no key {key_id}")
    found.revoked_at = now() if revoked else None
    return found


@dataclass(frozen=True)
class Answering:
    """What the server needs to know of an address to hand on a call.

    Attributes
    ----------
    id : int
    head : dict
        For `avocet.work.addresses.answering.Answerer`: bundles, model, order, keep.
    keys : dict of str to (int, int)
        Number and calls a minute of each good key, by its digest.
    revoked : frozenset of str
        Digests of keys that are not good any more.
    """

    id: int
    head: dict[str, Any]
    keys: dict[str, tuple[int, int]]
    revoked: frozenset[str]


def answering(session: Session, folder: DataFolder, name: str) -> Answering | None:
    """What answers under a name; None where nothing does.

    Raises
    ------
    NotFound
        If there is such an address and its model is gone.
    """
    query = select(Address).where(Address.name == name, Address.binned_at.is_(None))
    address = session.scalars(query.options(selectinload(Address.models), selectinload(Address.keys))).first()
    if address is None:
        return None
    model = address.answering
    bundles = (
        bundles_of(session, folder, model.run, model.ensemble) if (model.run or model.ensemble) else None
    )
    if bundles is None:
        raise NotFound(f"the model {model.name} that answers under {name} is not there any more")
    head = {
        "address": name,
        "model": {"name": model.name, "run_id": model.run_id, "ensemble_id": model.ensemble_id, "since": _said(model.since)},
        "bundles": {
            "paths": [str(path) for path in bundles.paths],
            "weights": list(bundles.weights),
            "overlap_limit": bundles.overlap_limit,
            "method": bundles.method,
        },
        "order": address.order,
        "keep": {
            "folder": str(folder.kept_of_address(address.project_id, address.id)),
            "share": address.keep_share,
            "most": MOST_KEPT,
        }
        if address.keep_share
        else None,
    }  # fmt: skip
    good = {each.digest: (each.id, each.per_minute) for each in address.keys if each.revoked_at is None}
    revoked = frozenset(each.digest for each in address.keys if each.revoked_at is not None)
    return Answering(address.id, head, good, revoked)


def _said(moment: dt.datetime) -> str:
    return moment.isoformat() + "Z"


@dataclass(frozen=True)
class KeptPicture:
    """A picture that came to an address and is kept for labelling."""

    name: str
    file: str
    doubt: float
    boxes: int


def kept_pictures(folder: DataFolder, address: Address) -> list[KeptPicture]:
    """What is kept, the most doubtful first."""
    place = folder.kept_of_address(address.project_id, address.id)
    found = []
    for path in sorted(place.glob("*.json"), reverse=True) if place.is_dir() else ():
        try:
            held = json.loads(path.read_text(encoding="utf-8"))
            row = held["row"]
            found.append(KeptPicture(row["name"], held["file"], held["doubt"], len(row["detections"])))
        except (OSError, ValueError, KeyError):
            continue  # gone meanwhile, or not written by this program
    return found


def kept_file(folder: DataFolder, address: Address, name: str) -> Path:
    """The file of a kept picture. Raises `NotFound` for anything else."""
    if name not in {each.file for each in kept_pictures(folder, address)}:
        raise NotFound(f"{address.name} keeps no picture {name!r}")
    return folder.kept_of_address(address.project_id, address.id) / name
