"""Plates on a moving plane: a reflection taken off, the light beside it given, flashes come through; and what it costs."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import av
import cv2
import numpy as np
import skimage.data
from numpy.typing import NDArray

from benchmarks.material import MemorySource, Planes
from benchmarks.planes import moves
from nimbus_sweep.core.media.frames import Colour
from nimbus_sweep.core.media.layout import picture_format
from nimbus_sweep.core.model.planes import from_corners, moved
from nimbus_sweep.core.model.recipes import Recipe, Step
from nimbus_sweep.core.model.regions import Key, Part, Region
from nimbus_sweep.core.model.shapes import Ellipse
from nimbus_sweep.core.model.tracks import Track
from nimbus_sweep.core.pipeline.analyses import Analyses, chain
from nimbus_sweep.core.pipeline.tracking import follow
from nimbus_sweep.core.tools.plate_patch.plate_plan import PlatePlan
from nimbus_sweep.demo.defects import rgb_to_ycbcr

Colours = NDArray[np.float32]
SIZE = (640, 480)
WINDOW = (200.0, 130.0, 240.0, 200.0)


def coloured(name: str) -> Colours:
    """A photograph of scikit-image in colour at the size of the clips."""
    picture = np.asarray(getattr(skimage.data, name)())
    if picture.ndim == 2:
        picture = cv2.cvtColor(picture, cv2.COLOR_GRAY2RGB)
    return cv2.resize(picture[..., :3], SIZE, interpolation=cv2.INTER_AREA).astype(np.float32)


def planes_of(picture: Colours) -> Planes:
    """Red, green and blue as 4:2:0."""
    y, cb, cr = rgb_to_ycbcr(np.clip(picture, 0, 255).astype(np.float64))
    half = [cv2.resize(p, (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA) for p in (cb, cr)]
    return tuple(np.clip(np.rint(p), 0, 255).astype(np.uint8) for p in (y, *half))


def windowed(
    name: str, frames: int = 60, seed: int = 1, swing: float = 0.15, flashes: bool = False, noise: float = 1.0, blur: bool = True
) -> tuple[list[Planes], list[Planes], list[NDArray[np.float64]], list[NDArray[np.float64]]]:
    """A plane that moves under changing light, with the reflection of a lamp gliding over it; and the same without.

    Returns
    -------
    clean, spoiled : list of planes
    ways : list of ndarray
        Of the plane, from the first frame.
    lights : list of ndarray, (3,)
        What the light of each frame is multiplied by.
    """
    whole = coloured(name)
    width, height = SIZE
    ways = moves(WINDOW, frames, seed, reach=0.35)
    rng = np.random.default_rng(seed)
    clean, spoiled, lights = [], [], []
    y, x = np.mgrid[:height, :width]
    corners = np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64)
    for n, way in enumerate(ways):
        after = ways[min(n + 1, frames - 1)]
        one, other = moved(corners, way), moved(corners, after)
        shares = np.linspace(-0.25, 0.25, 5) if blur else [0.0]
        # The lamp stays where it is in the room, so that its reflection glides over the plane.
        t = n / (frames - 1)
        cx, cy = WINDOW[0] + WINDOW[2] * (0.2 + 0.6 * t), WINDOW[1] + WINDOW[3] * (0.5 + 0.1 * np.sin(4 * t))
        lamp = np.exp(-((((x - cx) / 26) ** 2 + ((y - cy) / 20) ** 2) ** 1.5))[..., None] * np.array([110, 100, 80], np.float32)
        pair = []
        for picture in (whole, whole + lamp.astype(np.float32)):
            parts = [
                cv2.warpPerspective(
                    picture, from_corners(corners, one + s * (other - one)), SIZE, flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101
                )
                for s in shares
            ]
            pair.append(np.mean(parts, 0))
        light = np.ones(3) * (1 + swing * np.sin(n / 4 + seed))
        if flashes:
            light = light * np.where((n // 4) % 3 == np.arange(3), 1.35, 0.8)
        lights.append(light)
        # Noise is the same in both: the rest of the picture has it, too.
        grain = rng.normal(0, noise, (height, width, 1))
        for target, picture in zip((clean, spoiled), pair, strict=True):
            target.append(planes_of((picture * 0.62 * light + grain).astype(np.float32)))
    return clean, spoiled, ways, lights


def patch(
    spoiled: list[Planes], settings: dict[str, object] | None = None, model: str = "perspective", region: Region | None = None
) -> tuple[MemorySource, list[Planes], Recipe, PlatePlan]:
    """Track the window, and put a plate over where the reflection goes."""
    source = MemorySource(spoiled, picture_format("yuv420p", *SIZE), Colour(matrix=1))
    left, top, width, height = WINDOW
    plane = Region(
        parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=left + width / 2, y=top + height / 2, across=width / 2, down=height / 2)),)),)
    )
    track = Track(name="window", model=model, reference=0, region=plane, size=(SIZE[1], SIZE[0]))  # type: ignore[arg-type]
    track = track.with_path(follow(source, track, 0, range(len(spoiled))))
    where = region or Region(
        parts=(Part(keys=(Key(frame=0, shape=Ellipse(x=left + width / 2, y=top + height / 2, across=86, down=62)),), track="window"),),
        feather=6,
    )
    recipe = Recipe(steps=(Step(kind="plate-patch", region=where, settings=settings or {}),), tracks=(track,))
    with tempfile.TemporaryDirectory() as folder:
        known = Analyses(Path(folder), "bench", 0, len(spoiled)).make(recipe, source, lambda: None)  # type: ignore[arg-type, return-value]
        treated = list(chain(source, known, 0, len(spoiled)).frames(0, len(spoiled)))
    return source, [f.planes for f in treated], recipe, known[0].inner  # type: ignore[attr-defined]


def judged(clean: list[Planes], spoiled: list[Planes], treated: list[Planes], recipe: Recipe) -> dict[str, float]:
    """PSNR inside the patch, seam error, samples altered outside."""
    step = recipe.active[0]
    error, before, count, outside = 0.0, 0.0, 0, 0
    ours, truth = [], []
    for n, (a, b, c) in enumerate(zip(clean, treated, spoiled, strict=True)):
        mask = step.acts_in.mask((SIZE[1], SIZE[0]), n)  # type: ignore[union-attr]
        for k in range(3):
            share = mask if k == 0 else cv2.resize(mask, (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA)
            inside = share > 0.5
            error += float(((a[k][inside].astype(float) - b[k][inside]) ** 2).sum())
            before += float(((a[k][inside].astype(float) - c[k][inside]) ** 2).sum())
            count += int(inside.sum())
            outside += int((b[k] != c[k])[share == 0].sum())
        # Across the edge: how the picture changes there, against how the truth does.
        edge = cv2.GaussianBlur(mask, (0, 0), 1.5)
        across, down = cv2.Sobel(edge, cv2.CV_32F, 1, 0), cv2.Sobel(edge, cv2.CV_32F, 0, 1)
        size = np.hypot(across, down)
        rim = size > 0.6 * size.max()
        slopes = []
        for plane in (a[0], b[0]):
            # Grain is no seam.
            even = cv2.GaussianBlur(plane.astype(np.float32), (0, 0), 1.5)
            gx, gy = cv2.Sobel(even, cv2.CV_32F, 1, 0, scale=1 / 8), cv2.Sobel(even, cv2.CV_32F, 0, 1, scale=1 / 8)
            slopes.append(((gx * across + gy * down) / np.maximum(size, 1e-6))[rim])
        truth.append(slopes[0])
        ours.append(slopes[1])
    one, other = np.concatenate(truth), np.concatenate(ours)
    db = lambda e: float(10 * np.log10(255**2 / max(e / max(count, 1), 1e-9)))  # noqa: E731
    return {
        "db": db(error),
        "before": db(before),
        "seam": float(abs(np.abs(other).mean() / np.abs(one).mean() - 1)),
        "seam rms": float(np.sqrt(((other - one) ** 2).mean() / (one**2).mean())),
        "outside": float(outside),
    }


def light_errors(clean: list[Planes], treated: list[Planes], recipe: Recipe) -> tuple[float, float]:
    """Largest difference of a frame's mean inside the patch from the truth's, in codes; and of its red, green and blue, in percent."""
    step = recipe.active[0]
    worst, colour = 0.0, 0.0
    for n, (a, b) in enumerate(zip(clean, treated, strict=True)):
        mask = step.acts_in.mask((SIZE[1], SIZE[0]), n) > 0.95  # type: ignore[union-attr]
        small = cv2.resize(mask.astype(np.float32), (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA) > 0.95
        means = []
        for planes in (a, b):
            y, cb, cr = (float(p[m].mean()) for p, m in zip(planes, (mask, small, small), strict=True))
            luma, blue, red = (y - 16) / 219, (cb - 128) / 224, (cr - 128) / 224
            r, bl = luma + 1.5748 * red, luma + 1.8556 * blue
            means.append(np.array([r, (luma - 0.2126 * r - 0.0722 * bl) / 0.7152, bl]) * 255)
            worst = max(worst, abs(float(a[0][mask].mean()) - float(b[0][mask].mean())))
        colour = max(colour, float(np.abs(means[1] / np.maximum(means[0], 8) - means[0] / np.maximum(means[0], 8)).max()))
    return worst, 100 * colour


def run(say: Callable[[str], None] = print, frames: int = 48) -> None:
    """Print the tables."""
    say("photograph, seed, plate: dB inside (spoiled), seam error %, its rms %, changed outside; mean off in codes, colours off in %")
    for name in ("coffee", "chelsea", "astronaut", "brick"):
        for seed in (1, 2):
            for what, options in (("light swings", {}), ("colours flash", {"flashes": True})):
                clean, spoiled, _, _ = windowed(name, frames, seed, **options)  # type: ignore[arg-type]
                for kind in ("middle", "darker") if seed == 1 else ("middle",):
                    _, treated, recipe, plan = patch(spoiled, {"plates": [{"kind": kind}]})
                    figures, (codes, percent) = judged(clean, spoiled, treated, recipe), light_errors(clean, treated, recipe)
                    say(
                        f"{name:10} {seed} {what:13} {kind:7} {figures['db']:5.1f} ({figures['before']:4.1f})"
                        f"  {100 * figures['seam']:5.1f} {100 * figures['seam rms']:5.1f}  {figures['outside']:.0f}"
                        f"  {codes:4.2f} {percent:4.2f}  unknown {plan.figures['unknown']}"
                    )
    in_front(say, frames)
    speed(say)


def in_front(say: Callable[[str], None], frames: int) -> None:
    """Something dark passes before the plane: dB of what it covers of the region, kept in front, and covered by the patch."""
    say("photograph, seed: dB where something passes in front, kept there, covered when not asked; dB of the rest, both")
    for name in ("coffee", "chelsea", "astronaut", "brick"):
        for seed in (1, 2):
            clean, spoiled, _, _ = windowed(name, frames, seed)
            truth, source, where = [], [], []
            for n, (a, b) in enumerate(zip(clean, spoiled, strict=True)):
                there = np.zeros((SIZE[1], SIZE[0]), np.float32)
                cv2.ellipse(there, (round(660 - 700 * n / frames), 250), (34, 190), 8, 0, 360, 1.0, -1, cv2.LINE_AA)
                there = cv2.GaussianBlur(there, (0, 0), 1.2)
                half = cv2.resize(there, (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA)
                pair = [
                    tuple(
                        np.rint(p * (1 - s) + v * s).astype(np.uint8)
                        for p, s, v in zip(planes, (there, half, half), (30, 124, 130), strict=True)
                    )
                    for planes in (a, b)
                ]
                truth.append(pair[0])
                source.append(pair[1])
                where.append(there > 0.02)
            found = {}
            for front in ("darker", "nothing"):
                _, treated, recipe, _ = patch(source, {"front": front})
                region = recipe.active[0].acts_in
                sums = np.zeros((2, 2))
                for n, (a, b) in enumerate(zip(truth, treated, strict=True)):
                    inside = region.mask((SIZE[1], SIZE[0]), n) > 0.5  # type: ignore[union-attr]
                    error = (a[0].astype(float) - b[0]) ** 2
                    for k, part in enumerate((inside & where[n], inside & ~where[n])):
                        sums[k] += [error[part].sum(), part.sum()]
                found[front] = 10 * np.log10(255**2 / np.maximum(sums[:, 0] / np.maximum(sums[:, 1], 1), 1e-6))
            kept, covered = found["darker"], found["nothing"]
            say(f"{name:10} {seed} {kept[0]:5.1f} {covered[0]:5.1f}   {kept[1]:5.1f} {covered[1]:5.1f}")


def speed(say: Callable[[str], None]) -> None:
    """Putting a patch on against decoding and encoding the same frames."""
    _, spoiled, _, _ = windowed("coffee", 40, 1)
    source, _, recipe, _ = patch(spoiled)
    with tempfile.TemporaryDirectory() as folder:
        known = Analyses(Path(folder), "bench", 0, len(spoiled)).make(recipe, source, lambda: None)  # type: ignore[arg-type, return-value]
        treated = chain(source, known, 0, len(spoiled))
        began = time.perf_counter()
        made = [f.planes for f in treated.frames(0, len(spoiled))]
        patched = time.perf_counter() - began
        path = Path(folder) / "clip.mkv"
        began = time.perf_counter()
        with av.open(str(path), "w") as container:
            stream = container.add_stream("ffv1", rate=25)
            assert isinstance(stream, av.VideoStream)
            stream.width, stream.height, stream.pix_fmt = *SIZE, "yuv420p"
            for planes in made:
                array = np.concatenate([p.ravel() for p in planes]).reshape(SIZE[1] * 3 // 2, SIZE[0])
                container.mux(stream.encode(av.VideoFrame.from_ndarray(array, format="yuv420p")))
            container.mux(stream.encode())
        with av.open(str(path)) as container:
            count = sum(1 for _ in container.decode(video=0))
        bare = time.perf_counter() - began
    say(f"decode and encode {count} frames {bare:.2f} s, with the patch {bare + patched:.2f} s: {(bare + patched) / bare:.2f} times")


if __name__ == "__main__":
    run()
