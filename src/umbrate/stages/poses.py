"""Poses: where each photo was taken, how the lens bends, and the sparse cloud of tie points."""

import time
from dataclasses import dataclass
from functools import partial
from itertools import combinations

import numpy as np
from pydantic import Field

from ..core.cloud.keepbox import fit_keep_box
from ..core.errors import UmbrateError
from ..core.features.detect import detect
from ..core.features.match import match, unit_descriptors
from ..core.features.still import still_features
from ..core.geometry.lens import PARAMETER_NAMES, Lens
from ..core.geometry.pose import center
from ..core.imaging.decode import read_picture
from ..core.imaging.filters import halve_by_area
from ..core.poses.covariance import of_centers
from ..core.poses.frame import move_block, upright_frame
from ..core.poses.grow import KEY_POINT_SIGMA_PX, Grower
from ..core.poses.pairs import relate
from ..core.poses.targets import TargetSightings
from ..core.targets.detect import CODED
from ..job.blobs import BlobStore
from .base import Histogram, Outcome, Stage, StageSettings, problem
from .lens import NO_EXIF_35MM, lens_groups
from .masks import decode_mask, mask_blobs
from .photos import photo_key, photo_refs

LUMA = np.array([0.299, 0.587, 0.114], np.float32)
GUESSED_SIGMA = 0.4  #: of a focal length that no file tells, as a share of itself
RESIDUAL_TOP_PX = 2.0  #: where the histogram of residuals ends


class Settings(StageSettings):
    """How features are found and matched, and what is solved."""

    features: int = Field(
        6000,
        ge=500,
        le=40000,
        title="Features",
        description="At most this many key points a photo.",
        json_schema_extra={"unit": "per photo", "short": True},
    )
    fine: bool = Field(
        True,
        title="Fine features",
        description="Also look for key points in the doubled picture: more and "
        "more precise ones, about twice the time.",
        json_schema_extra={"short": True},
    )
    largest_side: int = Field(
        3200,
        ge=800,
        le=20000,
        title="Largest side",
        description="Photos larger than this are halved, once or more, before features are looked for: finer detail "
        "than that costs much time and adds little.",
        json_schema_extra={"unit": "px"},
    )
    solve_lens: bool = Field(
        True,
        title="Solve the lens",
        description="Refine focal length, principal point and distortion from the guess that the photos' EXIF data "
        "give, or from a lens card that is not to be used as it is.",
        json_schema_extra={"short": True},
    )
    use_targets: bool = Field(
        True,
        title="Use targets",
        description="Coded targets that the Lens stage found are tie points too. They must not stand still while the "
        "object turns.",
        json_schema_extra={"short": True},
    )
    drop_still: bool = Field(
        True,
        title="Drop still features",
        description="Key points that stay at one pixel while others move (a backdrop behind a turntable, dust) are "
        "left out.",
    )
    ratio: float = Field(
        0.85,
        ge=0.5,
        le=0.95,
        title="Match ratio",
        description="A match must be this much better than the second best: lower is stricter.",
    )
    verify_px: float = Field(
        3.0,
        ge=0.5,
        le=20,
        title="Verify within",
        description="Largest distance of a match from its epipolar line, for photos 1600 pixels wide.",
        json_schema_extra={"unit": "px"},
    )
    min_sightings: int = Field(
        18,
        ge=8,
        le=200,
        title="Least sightings",
        description="A photo comes in when at least this many of its points agree on one place for it.",
    )
    min_angle_deg: float = Field(
        2.0,
        ge=0.2,
        le=20,
        title="Least ray angle",
        description="Tie points whose rays meet at a smaller angle are left out.",
        json_schema_extra={"unit": "°"},
    )
    seed: int = Field(
        0,
        ge=0,
        le=999999,
        title="Random seed",
        description="Another seed draws other samples; the same seed gives the same result.",
    )


@dataclass(frozen=True)
class Inputs:
    """Photos and their masks."""

    blobs: str
    photos: list
    masks: dict
    groups: list  #: photos with one lens, as the Lens stage found them
    targets: dict  #: blob keys of the targets found, by photo id


def lenses_of(photos, groups):
    """Starting lenses of photos, from what the Lens stage found.

    Returns
    -------
    lenses : list of Lens
    lens_of : list of int
    guessed : int
        Lenses without a focal length in the photos' files.
    trusted : list of int
        Those that stay as they are.
    sigma : (m, 10)
        How well they are known; NaN where nobody knows.
    """
    lenses, lens_of, guessed = lens_groups(photos)
    trusted, sigma = [], np.full((len(lenses), len(PARAMETER_NAMES)), np.nan)
    group_of = {i: g for g in groups for i in g["photos"]}
    for k in range(len(lenses)):
        g = group_of.get(next(p.id for p, m in zip(photos, lens_of, strict=True) if m == k))
        if g is None or g["lens"] is None:
            if next(p for p, m in zip(photos, lens_of, strict=True) if m == k).focal_px is None:
                sigma[k, 0] = GUESSED_SIGMA * lenses[k].f
            continue
        lenses[k] = Lens.from_dict(g["lens"])
        if g["use"] == "trusted":
            trusted.append(k)
        else:
            # the focus may have moved a little since: three times what the card says
            sigma[k] = [3 * g["sigma"].get(n, np.nan) for n in PARAMETER_NAMES]
    return lenses, lens_of, guessed, trusted, sigma


def _rms(length):
    """Root mean square of lengths, or None where there are none."""
    return round(float(np.sqrt((length**2).mean())), 4) if len(length) else None


@dataclass(frozen=True)
class Side:
    """A photo as matching sees it: unit descriptors (n, 128), pixels (n, 2), lens vector, longer side."""

    unit: np.ndarray
    xy: np.ndarray
    lens: np.ndarray
    width: int


def find_features(blobs, masks, settings, photo):
    """Work item: the features of a photo, and the key of the blob that keeps them."""
    blobs = BlobStore(blobs)
    gray = (read_picture(photo.path) @ LUMA) / np.float32(255)
    mask = decode_mask(blobs.get_bytes(masks[photo.id])) if photo.id in masks else None
    halvings = 0
    while max(gray.shape) > settings.largest_side:
        gray = halve_by_area(gray)
        if mask is not None:
            mask = mask[::2, ::2][: gray.shape[0], : gray.shape[1]]
        halvings += 1
    # a photo that was halved has its finest detail left out on purpose
    f = detect(gray, mask, settings.features, upsample=settings.fine and not halvings).magnified(2**halvings)
    return f, blobs.put_arrays(**f.arrays())


def match_photos(sides, targets, settings, ij):
    """Work item: rows (k, 2) of what two photos share: features that look alike, and targets of one number."""
    i, j = ij
    m = match(sides[i].unit, sides[j].unit, settings.ratio)
    return np.vstack([m, targets.matches(i, j)]) if targets else m


def relate_photos(sides, settings, item):
    """Work item: the PairGeometry of two photos (i, j, matches), or None."""
    i, j, m = item
    a, b = sides[i], sides[j]
    threshold = settings.verify_px * max(a.width, b.width) / 1600.0
    return relate(m, a.xy, a.lens, b.xy, b.lens, threshold_px=threshold, seed=settings.seed + 1009 * i + j)


class PosesStage(Stage):
    """Features, matching, growing, adjustment."""

    name, title = "poses", "Poses"
    about = "Finds and matches features, solves where each photo was taken and the lens, and makes the sparse cloud."
    needs = ("photos", "masks", "lens")
    reads = "photos or masks"
    uses_keep_box = True
    Settings = Settings

    def gather(self, job, sitting):
        photos = photo_refs(job, sitting)
        if len(photos) < 2:
            count = "no usable photo" if not photos else "only one usable photo"
            raise UmbrateError(
                f"“{sitting.name}” has {count}. Poses need at least two photos of the object from different "
                "places, better 20 or more, with 60 % overlap. Bring in photos to the sitting.",
                ("bring in photos",),
            )
        done = job.result(sitting.id, "lens")
        groups = done.figures["groups"] if done else []
        targets = {p.id: done.blob("targets", p.id) for p in photos if done and done.blob("targets", p.id)}
        return Inputs(str(job.blobs.folder), photos, mask_blobs(job, sitting), groups, targets)

    def key(self, job, sitting):
        return [photo_key(job, sitting), sorted(job.hand_masks(sitting.id).items())]

    def run(self, inputs, settings, report):
        blobs, photos = BlobStore(inputs.blobs), inputs.photos
        n = len(photos)
        clock = time.monotonic()
        times = {}

        found = report.map(
            partial(find_features, inputs.blobs, inputs.masks, settings), photos, "finding features in photo", 0.0, 0.3
        )
        feats = [f for f, _ in found]
        artefacts = {("features", p.id): key for p, (_, key) in zip(photos, found, strict=True)}
        times["features_s"] = time.monotonic() - clock
        clock = time.monotonic()

        lenses, lens_of, guessed, trusted, lens_sigma = lenses_of(photos, inputs.groups)
        vectors = [x.vector for x in lenses]
        widths = [max(p.width, p.height) for p in photos]
        todo = list(combinations(range(n), 2))
        targets = self._targets(blobs, inputs, feats) if settings.use_targets else None
        xy = [f.xy for f in feats]
        sigma = [np.full(len(f), KEY_POINT_SIGMA_PX * w / 1600.0) for f, w in zip(feats, widths, strict=True)]
        if targets:
            xy = [np.vstack([a, b]) for a, b in zip(xy, targets.xy, strict=True)]
            sigma = [np.concatenate([a, b]) for a, b in zip(sigma, targets.sigma, strict=True)]
        sides = [
            Side(unit_descriptors(f.descriptors), points, v, w)
            for f, points, v, w in zip(feats, xy, (vectors[k] for k in lens_of), widths, strict=True)
        ]
        matched = report.map(partial(match_photos, sides, targets, settings), todo, "matching pair", 0.3, 0.6)
        matches = dict(zip(todo, matched, strict=True))
        still, still_share = still_features([len(x) for x in xy], xy, matches, widths)
        if settings.drop_still:
            matches = {(i, j): m[~still[i][m[:, 0]] & ~still[j][m[:, 1]]] for (i, j), m in matches.items()}
        related = report.map(
            partial(relate_photos, sides, settings),
            [(i, j, m) for (i, j), m in matches.items()],
            "verifying pair",
            0.6,
            0.65,
        )
        pairs = {ij: g for ij, g in zip(todo, related, strict=True) if g is not None}
        times["matching_s"] = time.monotonic() - clock
        clock = time.monotonic()
        if not pairs:
            raise UmbrateError(
                f"None of the {len(todo)} pairs of photos show the same surface. The photos must overlap by 60 % or "
                "more, be sharp, and show a matte, textured object. Check the masks too: they may hide the object.",
                ("go to", "masks") if inputs.masks else ("bring in photos",),
            )

        orientations = np.array([p.orientation for p in photos])

        def tell(solved, total, sentence, grower):
            report.progress(0.65 + 0.3 * solved / total, sentence, **{"tie points": int(grower.placed.sum())})
            on, points = grower.solved, grower.X[grower.placed]
            poses, points = move_block(
                grower.poses[on], points, upright_frame(grower.poses[on], points, orientations[on])
            )
            report.live(
                "block",
                {
                    "photo_ids": np.array([photos[i].id for i in np.flatnonzero(on)]),
                    "poses": poses,
                    "points": points.astype(np.float32),
                    "lenses": grower.lenses.copy(),
                    "lens_of": grower.lens_of[on],
                    "sizes": np.array([[p.width, p.height] for p in photos])[on],
                },
            )

        grower = Grower(
            xy,
            pairs,
            vectors,
            lens_of,
            widths,
            min_sightings=settings.min_sightings,
            min_angle_deg=settings.min_angle_deg,
            solve_lens=settings.solve_lens,
            trusted=trusted,
            lens_sigma=lens_sigma,
            sigma=sigma,
            correct=targets.shifts if targets else None,
            seed=settings.seed,
            report=tell,
            stop=report.check,
        )
        block = grower.run()
        times["solving_s"] = time.monotonic() - clock
        solved = block.solved
        if solved.sum() < 2:
            raise UmbrateError(
                f"No start was found: {len(pairs)} pairs of photos match, but none with enough points seen "
                "from clearly different places. Walk round the object instead of turning the camera on the "
                "spot, with 10 to 20 degrees between shots.",
                ("bring in photos",),
            )
        report.progress(0.97, "colors of the sparse cloud")
        block.poses, block.points = move_block(
            block.poses, block.points, upright_frame(block.poses[solved], block.points, orientations[solved])
        )
        colors = self._colors(block, photos, report)
        half_view = np.array(
            [
                min(photos[i].width, photos[i].height) / 2 / block.lenses[block.lens_of[i], 0]
                for i in np.flatnonzero(solved)
            ]
        )
        box = fit_keep_box(block.points, block.photos_of, block.poses[solved], half_view)
        length = np.linalg.norm(block.residual, axis=1)
        numbers = np.full(len(block.points), -1)
        if targets:
            numbers[block.point] = targets.number_of(block.photo, block.feature)
        of_targets = numbers[block.point] >= 0
        report.progress(0.98, "standard deviations")
        known = self._known(block, trusted)
        found_pairs = list(pairs)
        shared = [np.hstack([xy[i][g.matches[:, 0]], xy[j][g.matches[:, 1]]]) for (i, j), g in pairs.items()]
        artefacts[("pairs", None)] = blobs.put_arrays(
            photo_ids=np.array([p.id for p in photos]),
            pair=np.array(found_pairs, np.int32).reshape(-1, 2),
            start=np.cumsum([0, *(len(pairs[ij].matches) for ij in found_pairs)]),
            match=np.vstack(shared).astype(np.float32),  # pixels in the one photo, and in the other
        )
        artefacts[("block", None)] = blobs.put_arrays(
            photo_ids=np.array([p.id for p in photos]),
            poses=block.poses,
            lenses=block.lenses,
            lens_of=block.lens_of,
            sizes=np.array([[p.width, p.height] for p in photos]),
            points=block.points,
            colors=colors,
            photo=block.photo.astype(np.int32),
            feature=block.feature.astype(np.int32),
            point=block.point.astype(np.int32),
            xy=block.xy.astype(np.float32),
            residual=block.residual.astype(np.float32),
            sigma=block.sigma.astype(np.float32),
            number=numbers,
            point_sigma=known["points"],
            pose_sigma=known["poses"],
        )
        sightings = np.bincount(block.photo, minlength=n)
        square = np.bincount(block.photo, weights=length**2, minlength=n)
        L = Lens.from_vector(lenses[0].width, lenses[0].height, block.lenses[0])
        problems = [
            problem(
                photos[i],
                f"{photos[i].name} could not be placed: {why.text}.",
                "Set it aside, or bring in photos between it and its neighbors.",
            )
            for i, why in block.reasons.items()
        ]
        if guessed:
            problems.append(
                problem(
                    None,
                    f"The files say no focal length, so {NO_EXIF_35MM:.0f} mm (35 mm equivalent) was "
                    f"taken to start from; solved: {block.lenses[0, 0]:.0f} pixels.",
                    "Look whether the dome of photos round the object is plausible.",
                )
            )
        return Outcome(
            {
                "photos": n,
                "solved": int(solved.sum()),
                "rms_px": round(block.rms_px, 4),
                "points": len(block.points),
                "sightings": len(block.photo),
                "still": int(sum(x.sum() for x in still)),
                "still_share": round(still_share, 3),
                "targets": int((numbers >= 0).sum()),
                "targets_rms_px": _rms(length[of_targets]),
                "pairs": len(pairs),
                "pairs_tried": len(todo),
                "features_median": int(np.median([len(f) for f in feats])),
                "lens": {**L.as_dict(), "start_f": lenses[0].f},
                "lens_sigma": known["lens"],
                "unit": known["unit"],
                "turn_sigma_deg": known["turn_deg"],
                "center_sigma_percent": known["center_percent"],
                "lenses": len(lenses),
                "keep_box": box.as_dict(),
                "residual_histogram": np.histogram(length, 30, (0, RESIDUAL_TOP_PX))[0].tolist(),
                **{k: round(v, 2) for k, v in times.items()},
                "per_photo": {
                    str(p.id): {"sightings": int(s), "rms_px": round(float(np.sqrt(q / s)), 3) if s else None}
                    for p, s, q in zip(photos, sightings, square, strict=True)
                },
            },
            artefacts,
            problems,
        )

    @staticmethod
    def _known(block, trusted):
        """Standard deviations: of points and centers in units of the block, of turns, of the first lens."""
        cov = block.covariance(trusted)
        who, unit = np.flatnonzero(block.solved), cov.unit
        centers = np.sqrt(np.einsum("nii->n", of_centers(block.poses[who], cov.poses)) / 3) * unit
        turns = np.sqrt(np.einsum("nii->n", cov.poses[:, :3, :3]) / 3) * unit
        poses = np.full((len(block.poses), 2), np.nan)
        poses[who] = np.stack([turns, centers], 1)
        lens = np.sqrt(np.diag(cov.lenses[0])) * unit
        away = np.linalg.norm(
            [center(E) - block.points.mean(0) for E in block.poses[who]],
            axis=1,
        )
        return {
            "points": (np.sqrt(np.einsum("pii->p", cov.points) / 3) * unit).astype(np.float32),
            "poses": poses,
            "lens": {n: float(s) for n, s in zip(PARAMETER_NAMES, lens, strict=True) if s > 0},
            "unit": round(unit, 3),
            "turn_deg": round(float(np.degrees(np.median(turns))), 5),
            "center_percent": round(float(100 * np.median(centers / away)), 5),
        }

    @staticmethod
    def _targets(blobs, inputs, feats):
        """The TargetSightings of the photos, or None where no target was found in two of them."""
        numbers, dots = [], []
        for p in inputs.photos:
            t = blobs.get_arrays(inputs.targets[p.id]) if p.id in inputs.targets else None
            coded = t["kind"] == CODED if t else np.zeros(0, bool)
            numbers.append(t["number"][coded] if t else np.zeros(0, int))
            dots.append(t["dots"][coded] if t else np.zeros((0, 12)))
        every = np.concatenate(numbers)
        if len(np.unique(every)) == len(every):
            return None
        return TargetSightings([len(f) for f in feats], numbers, dots)

    @staticmethod
    def _colors(block, photos, report):
        """Color of each tie point, from the first photo that sees it."""
        colors = np.full((len(block.points), 3), 128, np.uint8)
        first = np.unique(block.point, return_index=True)[1]
        for i in np.unique(block.photo[first]):
            report.check()
            rows = first[block.photo[first] == i]
            picture = read_picture(photos[i].path)
            u = np.clip(np.round(block.xy[rows]).astype(int), 0, [picture.shape[1] - 1, picture.shape[0] - 1])
            colors[block.point[rows]] = picture[u[:, 1], u[:, 0]]
        return colors

    def rows(self, f):
        L, sd = f["lens"], f.get("lens_sigma", {})
        give = lambda n: f" ± {sd[n]:.1f}" if n in sd else ""  # noqa: E731
        known = []
        if "turn_sigma_deg" in f:
            text = f"{f['turn_sigma_deg']:.3f}°, {f['center_sigma_percent']:.3f} %"
            told = "Standard deviations of a photo's turn, and of its place in % of its distance; the median photo"
            known.append(("Known to", text, told))
        return [
            ("Placed", f"{f['solved']} of {f['photos']}", "Photos with a solved pose"),
            ("Residual", f"{f['rms_px']:.2f} px", "Root mean square distance between seen and predicted sightings"),
            *known,
            ("Tie points", f"{f['points']:,}", "Points of the sparse cloud"),
            ("Sightings", f"{f['sightings']:,}", "Tie points as seen in photos; more per point is better"),
            *(
                [
                    (
                        "Targets",
                        f"{f['targets']}, {f['targets_rms_px']:.3f} px",
                        "Coded targets among the tie points, and their residual",
                    )
                ]
                if f.get("targets")
                else []
            ),
            *(
                [("Still features", f"{f['still']:,}", "Key points that do not move while others do: left out")]
                if f.get("still")
                else []
            ),
            ("Matched pairs", f"{f['pairs']} of {f['pairs_tried']}", "Photo pairs that show the same surface"),
            ("Focal length", f"{L['f']:.1f}{give('f')} px", f"Solved; to start from, it was {L['start_f']:.0f} px"),
            (
                "Principal point",
                f"{L['cx']:.1f}{give('cx')}, {L['cy']:.1f}{give('cy')} px",
                "Where the optical axis meets the picture",
            ),
            ("k1, k2, k3", ", ".join(f"{x:.4f}" for x in L["k"]), "Radial distortion (Brown-Conrady)"),
        ]

    def histogram(self, figures):
        counts = figures["residual_histogram"]
        edges = np.linspace(0, RESIDUAL_TOP_PX, len(counts) + 1).tolist()
        return Histogram("Residuals of the sightings", "distance seen to predicted (px)", edges, counts)

    def headline(self, figures):
        left = figures["photos"] - figures["solved"]
        return (
            f"{figures['solved']}/{figures['photos']}  {figures['rms_px']:.2f} px",
            f"{left} not placed" if left else f"{figures['points']:,} points",
        )
