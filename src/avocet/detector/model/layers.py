"""What stages of a network are built of: convolution units, residual and inverted residual blocks."""

from torch import Tensor, nn
from torch.nn.utils.fusion import fuse_conv_bn_eval

from avocet.detector.model.sizes import EXPANSION, Inverted, Part, Shortcut, Unit


class ConvUnit(nn.Module):
    """Convolution, normalisation and, if any, activation."""

    def __init__(
        self,
        inputs: int,
        outputs: int,
        kernel: int,
        stride: int = 1,
        groups: int = 1,
        activation: nn.Module | None = None,
    ) -> None:
        super().__init__()
        self.conv: nn.Module = nn.Conv2d(
            inputs, outputs, kernel, stride, kernel // 2, groups=groups, bias=False
        )
        self.norm: nn.Module = nn.BatchNorm2d(outputs)
        self.act: nn.Module = activation or nn.SiLU(inplace=True)

    def forward(self, x: Tensor) -> Tensor:
        out: Tensor = self.act(self.norm(self.conv(x)))
        return out

    def fold(self) -> None:
        """Merge the normalisation into the convolution, for inference."""
        if isinstance(self.conv, nn.Conv2d) and isinstance(self.norm, nn.BatchNorm2d):
            self.conv = fuse_conv_bn_eval(self.conv, self.norm)
            self.norm = nn.Identity()


class Residual(nn.Module):
    """A 1×1 and a 3×3 convolution around a shortcut (He et al., 2016)."""

    def __init__(self, channels: int) -> None:
        super().__init__()
        self.narrow = ConvUnit(channels, channels // 2, 1)
        self.widen = ConvUnit(channels // 2, channels, 3)

    def forward(self, x: Tensor) -> Tensor:
        out: Tensor = x + self.widen(self.narrow(x))
        return out


class InvertedResidual(nn.Module):
    """Widened, each channel convolved by itself, narrowed without activation (Sandler et al., 2018).

    With the activation that the light form of EfficientNet has, which ends at 6.
    """

    def __init__(self, part: Inverted) -> None:
        super().__init__()
        wide = part.inputs * EXPANSION
        self.widen = ConvUnit(part.inputs, wide, 1, activation=nn.ReLU6(inplace=True))
        self.each = ConvUnit(wide, wide, part.kernel, part.stride, wide, nn.ReLU6(inplace=True))
        self.narrow = ConvUnit(wide, part.outputs, 1, activation=nn.Identity())
        self.shortcut = part.stride == 1 and part.inputs == part.outputs

    def forward(self, x: Tensor) -> Tensor:
        out: Tensor = self.narrow(self.each(self.widen(x)))
        return x + out if self.shortcut else out


def stage_of(parts: tuple[Part, ...]) -> nn.Sequential:
    """The layers that a stage of a size is made of."""
    return nn.Sequential(*(_layer(part) for part in parts))


def _layer(part: Part) -> nn.Module:
    match part:
        case Shortcut():
            return Residual(part.channels)
        case Inverted():
            return InvertedResidual(part)
        case Unit():
            activation = None if part.active else nn.Identity()
            return ConvUnit(part.inputs, part.outputs, part.kernel, part.stride, activation=activation)
