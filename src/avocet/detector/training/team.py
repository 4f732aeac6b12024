"""One training over several processes: each takes its share of every batch, and all take the same step."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
import torch
import torch.distributed
from numpy.typing import ArrayLike, NDArray
from torch import Tensor, nn
from torch.nn.parallel import DistributedDataParallel


class TeamBroken(Exception):
    """One of the others does not answer any more; what was trained until the last epoch is there."""


CPU = torch.device("cpu")


@dataclass(frozen=True)
class Team:
    """Who trains together; by default one alone, for whom all of this does nothing.

    Whatever is asked of a team, each of its members has to ask at the same place.

    Attributes
    ----------
    rank : int
        Of this process; 0 keeps checkpoints and tells.
    size : int
    device : torch.device
    """

    rank: int = 0
    size: int = 1
    device: torch.device = CPU

    @property
    def alone(self) -> bool:
        return self.size == 1

    def share(self, count: int) -> range:
        """Which of so many things are this process's.

        Examples
        --------
        >>> [Team(rank, 3).share(8) for rank in range(3)]
        [range(0, 3), range(3, 6), range(6, 8)]
        """
        each, more = divmod(count, self.size)
        start = self.rank * each + min(self.rank, more)
        return range(start, start + each + (self.rank < more))

    def total(self, values: ArrayLike) -> NDArray[np.float64]:
        """The sum of everybody's values, element by element."""
        own = np.asarray(values, dtype=np.float64)
        if self.alone:
            return own
        summed = torch.from_numpy(own.copy()).to(self.device)
        torch.distributed.all_reduce(summed)
        return summed.cpu().numpy()

    def agreed(self, wanted: bool) -> bool:
        """Whether any of them wants it."""
        return bool(self.total(float(wanted)) > 0)

    def given(self, thing: Any) -> Any:
        """What the first has."""
        if self.alone:
            return thing
        held = [thing]
        torch.distributed.broadcast_object_list(held, device=self.device)
        return held[0]

    def gathered(self, thing: Any) -> list[Any]:
        """What everybody has, in the order of their ranks."""
        if self.alone:
            return [thing]
        held: list[Any] = [None] * self.size
        torch.distributed.all_gather_object(held, thing)
        return held

    def stepping(self, network: nn.Module) -> nn.Module:
        """The network as it is to be called in a step: gradients are the mean over the team afterwards."""
        if self.alone:
            return network
        places = [self.device] if self.device.type == "cuda" else None
        return DistributedDataParallel(network, device_ids=places, forward_sync_buffers=False)


ALONE = Team()


@contextmanager
def team_at(
    host: str, port: int, rank: int, size: int, device: torch.device, patience: float
) -> Iterator[Team]:
    """Meet the others, and part from them at the end.

    Parameters
    ----------
    host : str
        Address of the first, where all meet.
    port : int
    rank, size : int
    device : torch.device
        Of the same kind for all: on CPUs they talk by gloo, on GPUs by nccl.
    patience : float
        Seconds for which one that does not answer is waited for.

    Raises
    ------
    TeamBroken
        If not everybody came.
    """
    if device.type == "cuda":
        torch.cuda.set_device(device)
    try:
        torch.distributed.init_process_group(
            "nccl" if device.type == "cuda" else "gloo",
            init_method=f"tcp://{host}:{port}",
            rank=rank,
            world_size=size,
            timeout=timedelta(seconds=patience),
        )
    except RuntimeError as error:
        raise TeamBroken(first_line(error)) from error
    try:
        yield Team(rank, size, device)
    finally:
        torch.distributed.destroy_process_group()


def first_line(error: BaseException) -> str:
    """What torch says of a fault, without the places in its own sources."""
    return (str(error).strip() or type(error).__name__).splitlines()[0]


class _NormOfAll(torch.autograd.Function):
    """Batch normalisation by mean and variance of everybody's pictures; gradients by Ioffe and Szegedy (2015)."""

    @staticmethod
    def forward(
        ctx: Any, x: Tensor, weight: Tensor, bias: Tensor, eps: float
    ) -> tuple[Tensor, Tensor, Tensor, Tensor]:
        count = x.numel() // x.shape[1]
        # The few sums in double precision: a variance is the small difference of two of them.
        middle, spread = (each.double() for each in _mean_and_variance(x))
        sums = torch.cat([middle * count, (spread + middle.square()) * count, middle.new_tensor([count])])
        torch.distributed.all_reduce(sums)
        total, channels = sums[-1], x.shape[1]
        mean = sums[:channels] / total
        variance = (sums[channels:-1] / total - mean.square()).clamp(min=0)
        mean, variance = mean.float(), variance.float()
        ctx.save_for_backward(x, weight, mean, variance, total)
        ctx.eps = eps
        ctx.mark_non_differentiable(mean, variance, total)
        return (
            nn.functional.batch_norm(x, mean, variance, weight, bias, False, 0.0, eps),
            mean,
            variance,
            total,
        )

    @staticmethod
    def backward(ctx: Any, *slopes: Tensor) -> tuple[Tensor | None, ...]:
        x, weight, mean, variance, total = ctx.saved_tensors
        slope, wanted = slopes[0], [False, True, True]
        _, for_weight, for_bias = torch.ops.aten.native_batch_norm_backward(
            slope, x, weight, mean, variance, None, None, False, ctx.eps, wanted
        )
        sums = torch.cat([for_bias, for_weight]).double()
        torch.distributed.all_reduce(sums)
        of_slope, of_both = (sums / total).float().chunk(2)
        inverse = (variance + ctx.eps).rsqrt()
        scale = weight * inverse
        tilt = -scale * inverse * of_both
        shift = -scale * of_slope - tilt * mean
        shape = (1, -1, 1, 1)
        for_x = torch.addcmul(shift.view(shape), x.float(), tilt.view(shape))
        for_x.addcmul_(slope.float(), scale.view(shape))
        return for_x.to(x.dtype), for_weight, for_bias, None


def _mean_and_variance(x: Tensor) -> tuple[Tensor, Tensor]:
    """Of each channel, over pictures and places."""
    if x.device.type == "cpu":
        # A tenth of the time of `torch.var_mean`; the statistics that it would update are of no use here.
        unused = torch.zeros(x.shape[1])
        middle, spread = torch.batch_norm_update_stats(x, unused, unused.clone(), 0.0)
        return middle, spread
    spread, middle = torch.var_mean(x.float(), (0, 2, 3), correction=0)
    return middle, spread


class TeamNorm(nn.BatchNorm2d):
    """Batch normalisation over the pictures of the whole batch, wherever they are (Ioffe and Szegedy, 2015).

    While it learns, sums and counts of all members are added up before mean and variance are taken; otherwise
    it is `torch.nn.BatchNorm2d`. Those of torch that do this run on GPUs only.
    """

    def forward(self, x: Tensor) -> Tensor:
        if not self.training:
            return super().forward(x)
        assert self.running_mean is not None and self.running_var is not None
        assert self.num_batches_tracked is not None and self.momentum is not None
        # Untyped in torch.
        out, mean, variance, total = _NormOfAll.apply(x, self.weight, self.bias, self.eps)  # type: ignore[no-untyped-call]
        with torch.no_grad():
            self.num_batches_tracked.add_(1)
            unbiased = variance * (total / (total - 1).clamp(min=1))
            self.running_mean.lerp_(mean.to(self.running_mean.dtype), self.momentum)
            self.running_var.lerp_(unbiased.to(self.running_var.dtype), self.momentum)
        made: Tensor = out
        return made


def set_norms(network: nn.Module, kind: type[nn.BatchNorm2d]) -> None:
    """Let every normalisation of a network be of a kind; weights and statistics stay the very same tensors."""
    for parent in list(network.modules()):
        for name, norm in parent.named_children():
            if not isinstance(norm, nn.BatchNorm2d) or type(norm) is kind:
                continue
            made = kind(norm.num_features, norm.eps, norm.momentum)
            made.weight, made.bias = norm.weight, norm.bias
            for buffer in ("running_mean", "running_var", "num_batches_tracked"):
                setattr(made, buffer, getattr(norm, buffer))
            made.train(norm.training)
            setattr(parent, name, made)


def joined_in_order(parts: Sequence[dict[int, Any]]) -> list[Any]:
    """What each found, by the number that it has, as one list."""
    whole = {number: each for part in parts for number, each in part.items()}
    return [whole[number] for number in range(len(whole))]
