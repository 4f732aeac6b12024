"""The network: a compact convolutional backbone, a top-down path and one head a level."""

from collections.abc import Sequence

import torch
from torch import Tensor, nn

from avocet.detector.model.layers import ConvUnit, stage_of
from avocet.detector.model.sizes import ALL_LEVELS, STRIDES, Size

OBJECTNESS_START = -4.6
"""Bias of the objectness at the start: about one cell in a hundred holds an object."""


class Network(nn.Module):
    """Single-shot detector with strides 8, 16 and 32 and a top-down path (Lin et al., 2017).

    Parameters
    ----------
    size : Size
    classes : int
    anchors : sequence of int
        How many each level has. A level without any has no layers of its own: it costs nothing. The
        coarsest stage still tells the finer levels what lies around them.

    Notes
    -----
    Input is (B, 3, H, W), values 0 to 1, sides multiples of 32. Output is one tensor a level of
    shape (B, A, 5 + C, H / stride, W / stride): t_x, t_y, t_w, t_h, t_o and class logits.
    """

    def __init__(self, size: Size, classes: int, anchors: Sequence[int] = ALL_LEVELS) -> None:
        super().__init__()
        self.classes, self.anchors = classes, tuple(anchors)
        self._finest = min(level for level, count in enumerate(self.anchors) if count)
        self.stem = ConvUnit(3, size.stem, 3, 2)
        self.stages = nn.ModuleList(stage_of(parts) for parts in size.stages)
        # Levels keep their place, so that weights of another number of levels can be taken over.
        self.lateral = nn.ModuleList(
            ConvUnit(width, size.neck, 1) if level >= self._finest else nn.Identity()
            for level, width in enumerate(size.widths[-len(STRIDES) :])
        )
        self.smooth = nn.ModuleList(
            ConvUnit(size.neck, size.neck, 3) if count else nn.Identity() for count in self.anchors
        )
        self.heads = nn.ModuleList(
            nn.Conv2d(size.neck, count * (5 + classes), 1) if count else nn.Identity()
            for count in self.anchors
        )
        self._start()

    def _start(self) -> None:
        for module in self.modules():
            if isinstance(module, nn.Conv2d):
                nn.init.kaiming_normal_(module.weight, mode="fan_out", nonlinearity="relu")
        for head, count in zip(self.heads, self.anchors, strict=True):
            if not isinstance(head, nn.Conv2d):
                continue
            assert head.bias is not None
            nn.init.normal_(head.weight, std=0.01)
            bias = torch.zeros(count, 5 + self.classes)
            bias[:, 4] = OBJECTNESS_START
            head.bias.data.copy_(bias.flatten())

    def forward(self, x: Tensor) -> list[Tensor]:
        features = []
        x = self.stem(x)
        for stage in self.stages:
            x = stage(x)
            features.append(x)
        features = features[-len(STRIDES) :]
        merged: Tensor | None = None
        outputs: list[Tensor] = []
        for level in reversed(range(len(STRIDES))):
            if level >= self._finest:
                own = self.lateral[level](features[level])
                if merged is not None:
                    own = own + nn.functional.interpolate(merged, scale_factor=2.0, mode="nearest")
                merged = own
            outputs.append(self._outputs(level, merged, features[level]))
        return outputs[::-1]

    def _outputs(self, level: int, merged: Tensor | None, feature: Tensor) -> Tensor:
        count, (batch, _, rows, columns) = self.anchors[level], feature.shape
        if merged is None or not count:
            return feature.new_zeros((batch, 0, 5 + self.classes, rows, columns), dtype=torch.float32)
        z = self.smooth[level](merged)
        # The last step in full precision: box coordinates need more than 8 bits.
        with torch.autocast(device_type=z.device.type, enabled=False):
            raw: Tensor = self.heads[level](z.float())
        return raw.view(batch, count, 5 + self.classes, rows, columns)

    @property
    def backbone(self) -> nn.ModuleList:
        """The stem and the stages: what sees, before anything is located."""
        return nn.ModuleList([self.stem, *self.stages])

    def fold(self) -> None:
        """Merge every normalisation into its convolution. Only for inference; cannot be undone."""
        self.eval()
        for module in self.modules():
            if isinstance(module, ConvUnit):
                module.fold()
