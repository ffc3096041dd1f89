"""The picture of `size`: the chance to find no port over the size of the range."""

import io
from itertools import islice
from pathlib import PurePath

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from ..core.sizing.demand import Sized, chances
from .screen import AMBER, BRICK, INK, SEA, SLATE

FLOOR = 1e-6
PAPER = "#fbf8f1"
POINTS = "offset points"


def drawn(sized: Sized, path: PurePath) -> bytes:
    """The picture in the format that the file name asks for: PNG or SVG."""
    mpl.rcParams["svg.hashsalt"] = "eager-lantern"  # the same picture gives the same bytes
    mpl.rcParams["svg.fonttype"] = "none"
    figure = Figure(figsize=(9, 5.4), facecolor=PAPER, layout="constrained")
    axes = figure.add_subplot(facecolor=PAPER)
    _curve(axes, sized)
    _simulated(axes, sized)
    _marks(axes, sized)
    _labels(axes, sized)
    out = io.BytesIO()
    dated = {"Date": None} if path.suffix == ".svg" else {}
    figure.savefig(out, format=path.suffix.removeprefix("."), dpi=130, metadata=dated)
    return out.getvalue()


def _last(sized: Sized) -> int:
    """The size at which the axis ends."""
    return max(8, round(1.12 * max(sized.sizing.size, sized.sizing.by_load)))


def _curve(axes: Axes, sized: Sized) -> None:
    sizing = sized.sizing
    sizes = range(1, _last(sized) + 1)
    lost = list(islice(chances(sizing.demand.offered), 1, len(sizes) + 1))
    shown = [(ports, chance) for ports, chance in zip(sizes, lost, strict=True) if chance >= FLOOR]
    axes.plot(*zip(*shown, strict=True), color=SEA, linewidth=2.2, label="steady load: Erlang's formula")
    if sizing.by_burst:
        missing = [(ports, sizing.lost_in_burst(ports)) for ports in sizes]
        kept = [each for each in missing if each[1] >= FLOOR]
        label = f"worst burst: {sizing.demand.burst} clients at once"
        axes.plot(*zip(*kept, strict=True), color=BRICK, linewidth=2.2, linestyle=(0, (5, 2)), label=label)


def _simulated(axes: Axes, sized: Sized) -> None:
    seen = [each for each in sized.tried if each.estimate.share >= FLOOR and each.ports <= _last(sized)]
    if not seen:
        return
    shares = [each.estimate.share for each in seen]
    below = [each.estimate.share - max(each.estimate.low, FLOOR) for each in seen]
    above = [each.estimate.high - each.estimate.share for each in seen]
    axes.errorbar(
        [each.ports for each in seen], shares, yerr=[below, above], fmt="o", color=INK, markersize=5, capsize=3,
        label="steady load: simulated, with 95 % interval",
    )  # fmt: skip


def _marks(axes: Axes, sized: Sized) -> None:
    sizing = sized.sizing
    axes.axhline(sizing.chance, color=SLATE, linewidth=0.9, linestyle=":")
    axes.axvline(sizing.size, color=AMBER, linewidth=6, alpha=0.45, zorder=0)
    below = axes.annotate(f"{sizing.size} ports needed", (sizing.size, FLOOR), xytext=(-7, 8), textcoords=POINTS)
    below.set(rotation=90, ha="right", va="bottom", fontsize=11, color=INK)
    chosen = axes.annotate(f"chosen: {_rarely(sizing.chance)}", (1, sizing.chance), xytext=(6, 3), textcoords=POINTS)
    chosen.set(va="bottom", fontsize=9, color=INK)


def _rarely(share: float) -> str:
    return f"1 in {1 / share:,.0f}"


def _labels(axes: Axes, sized: Sized) -> None:
    axes.set_title(f"{sized.title}: chance that a data connection finds no port", color=INK, loc="left")
    axes.set_xlabel("data ports in the range")
    axes.set_ylabel("share that finds none")
    axes.set_yscale("log")
    axes.set_ylim(FLOOR, 1.6)
    axes.set_xscale("log")
    axes.set_xlim(1, _last(sized))
    ports = [step * 10**power for power in range(5) for step in (1, 2, 5)]
    shown = [each for each in ports if each <= _last(sized)]
    axes.set_xticks(shown, [f"{each:,}" for each in shown])
    axes.minorticks_off()
    shares = [10.0**-power for power in range(7)]
    axes.set_yticks(shares, ["all", *(_rarely(each) for each in shares[1:])])
    axes.grid(axis="y", color=SLATE, alpha=0.2)
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.13), ncols=3, fontsize=9)
